"""What will change: line by line in the notation, and told as renamed, moved or renumbered."""

from typing import Any

from greyheron.analysis.network.differences import LineSign, Verb, differences
from greyheron.demo.networks import saltmarsh
from greyheron.model.changes import Change
from greyheron.model.document import Network, to_data
from greyheron.model.read import edited
from greyheron.model.renaming import renaming

NETWORK = saltmarsh()


def after(*changes: Change) -> Network:
    return edited(NETWORK, list(changes))


def device(name: str, **fields: Any) -> Change:
    item = to_data(next(each for each in NETWORK.devices if each.name == name))
    return Change(collection="devices", key=name, item={**item, **fields})


def test_disabling_an_interface_beside_one_that_is_disabled_shows() -> None:
    item = to_data(next(each for each in NETWORK.devices if each.name == "sluice"))
    first, second, *others = item["interfaces"]
    one_off = after(device("sluice", interfaces=[{**first, "enabled": False}, second, *others]))
    both = [{**first, "enabled": False}, {**second, "enabled": False}, *others]
    both_off = edited(one_off, [device("sluice", interfaces=both)])
    (found,) = differences(one_off, both_off)
    assert (found.key, found.verb) == ("sluice", Verb.CHANGED)
    signs = [(line.sign, line.text) for line in found.lines if line.sign in (LineSign.GONE, LineSign.ADDED)]
    assert [sign for sign, _ in signs] == [LineSign.GONE, LineSign.ADDED]
    assert second["name"] in signs[0][1]
    assert "disabled" in signs[1][1]


def test_entries_are_compared_in_their_order_with_their_neighbours() -> None:
    old = next(each for each in NETWORK.lists if each.name == "hides-in")
    lines = to_data(old)["entries"].splitlines()
    item = {**to_data(old), "entries": "\n".join([*lines[:-1], "45 permit icmp"])}
    (found,) = differences(NETWORK, after(Change(collection="lists", key="hides-in", item=item)))
    assert [line.text for line in found.lines if line.sign is LineSign.GONE] == [lines[-1]]
    added = [line.text for line in found.lines if line.sign is LineSign.ADDED]
    assert added == ["45 permit icmp from any to any"]
    assert any(line.sign is LineSign.SAME for line in found.lines)


def test_what_is_renumbered_renamed_or_moved_is_told_so() -> None:
    old = next(each for each in NETWORK.lists if each.name == "hides-in")
    numbered = [line for line in to_data(old)["entries"].splitlines() if not line.startswith("#")]
    body = "\n".join(f"{5 + 7 * place} {line.split(' ', 1)[1]}" for place, line in enumerate(numbered))
    remarkless = after(
        Change(collection="lists", key="hides-in", item={**to_data(old), "entries": "\n".join(numbered)})
    )
    item = {**to_data(old), "entries": body}
    (found,) = differences(
        remarkless, edited(remarkless, [Change(collection="lists", key="hides-in", item=item)])
    )
    assert found.verb is Verb.RENUMBERED
    renamed = edited(NETWORK, renaming(NETWORK, "lists", "hides-in", "from-hides"))
    told = {(each.collection, each.verb): each for each in differences(NETWORK, renamed)}
    assert told["lists", Verb.RENAMED].was == "hides-in"
    placed = next(each for each in NETWORK.placements if each.list == "hides-in")
    key = f"{placed.device}:{placed.at}:{placed.direction}:{placed.list}"
    moved = {**to_data(placed), "direction": "out" if placed.direction == "in" else "in"}
    new_key = f"{placed.device}:{placed.at}:{moved['direction']}:{placed.list}"
    changes = [
        Change(collection="placements", key=key),
        Change(collection="placements", key=new_key, item=moved),
    ]
    (found,) = differences(NETWORK, after(*changes))
    assert (found.verb, found.was, found.key) == (Verb.MOVED, key, new_key)


def test_nothing_differs_from_itself() -> None:
    assert differences(NETWORK, NETWORK) == []
