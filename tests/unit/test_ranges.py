"""What an entry covers, in words: devices, and whom addresses mean that no interface holds."""

import pytest

from greyheron.analysis.presentation.ranges import cover_list
from greyheron.demo.networks import saltmarsh
from greyheron.model.changes import Change
from greyheron.model.read import edited


@pytest.mark.parametrize(
    ("family", "address", "whom"),
    [
        ("ipv4", "203.0.113.10", "sightings as weir publishes it"),
        ("ipv4", "198.51.100.80", "whoever is behind beyond"),
        ("ipv4", "172.20.16.21", "kiosk"),
        ("ipv4", "172.22.0.0/16", "no device of this network"),
        ("ipv6", "fe80::/10", "neighbours on the same link"),
    ],
)
def test_the_text_of_an_entry_says_whom_it_means(family: str, address: str, whom: str) -> None:
    item = {"name": "one", "family": family, "kind": "extended"}
    item["entries"] = f"permit any from any to {address}"
    network = edited(saltmarsh(), [Change(collection="lists", key="one", item=item)])
    (cover,) = cover_list(network.lists[-1], network)
    assert cover.destination.endswith(whom) or f", {whom}" in cover.destination
