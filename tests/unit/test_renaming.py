"""Another name, wherever the old one was said."""

import pytest

from greyheron.demo.networks import saltmarsh
from greyheron.formats.workspace import read_workspace, write_workspace
from greyheron.model.document import Network
from greyheron.model.problems import DocumentError
from greyheron.model.read import edited
from greyheron.model.renaming import NamedCollection, renaming


@pytest.mark.parametrize(
    ("collection", "old"),
    [
        *(("devices", device.name) for device in saltmarsh().devices),
        *(("lists", access_list.name) for access_list in saltmarsh().lists),
        *(("address_sets", group.name) for group in saltmarsh().address_sets),
        *(("port_sets", group.name) for group in saltmarsh().port_sets),
    ],
)
def test_there_and_back_is_the_same_document(collection: NamedCollection, old: str) -> None:
    network = saltmarsh()
    there = edited(network, renaming(network, collection, old, "spoonbill"))
    assert [item.name for item in getattr(there, collection)] == [
        "spoonbill" if item.name == old else item.name for item in getattr(network, collection)
    ]
    assert there != network
    assert edited(there, renaming(there, collection, "spoonbill", old)) == network


def rewritten(network: Network, *pairs: tuple[str, str]) -> Network:
    text = write_workspace(network)
    for old, new in pairs:
        assert old in text
        text = text.replace(old, new)
    return read_workspace(text)


def test_a_device_is_followed_by_all_that_speaks_of_it() -> None:
    places = "only zone:weir:yard,segment:weir:core0,weir:core0"
    network = rewritten(saltmarsh(), ("only wardens-desk", places))
    after = write_workspace(edited(network, renaming(network, "devices", "weir", "dam")))
    assert "weir" not in after.replace("the weir", "")
    assert "only zone:dam:yard,segment:dam:core0,dam:core0" in after
    ledger = write_workspace(edited(network, renaming(network, "devices", "ledger", "register")))
    assert "to @register port" in ledger
    assert "@ledger" not in ledger


def test_a_set_of_the_same_name_is_what_entries_mean() -> None:
    """`@name` is an address set's first: renaming the device of that name leaves it as it is."""
    network = rewritten(
        saltmarsh(),
        ("- name: visitors\n", "- name: ledger\n"),
        ("visitors →", "kiosk →"),
        ("to @visitors", "to any"),
    )
    after = write_workspace(edited(network, renaming(network, "devices", "ledger", "register")))
    assert "@ledger" in after
    assert "@register" not in after


def test_port_sets_are_followed_into_requirements() -> None:
    network = rewritten(
        saltmarsh(), ("allow visitors → ledger https", "allow visitors → ledger tcp/@web,8443")
    )
    after = write_workspace(edited(network, renaming(network, "port_sets", "web", "pages")))
    assert "allow visitors → ledger tcp/@pages,8443" in after


def test_a_name_that_is_taken_or_gone() -> None:
    with pytest.raises(DocumentError, match="there is a sluice already"):
        renaming(saltmarsh(), "devices", "weir", "sluice")
    with pytest.raises(DocumentError, match="no “dam” any more"):
        renaming(saltmarsh(), "devices", "dam", "weir")
    with pytest.raises(DocumentError, match="is no name"):
        edited(saltmarsh(), renaming(saltmarsh(), "devices", "weir", "1st"))
