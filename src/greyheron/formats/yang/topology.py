"""Devices and links as a topology: RFC 8345, and their addresses by RFC 8346."""

from collections.abc import Mapping
from typing import Any

from greyheron.formats.machines.wiring import End
from greyheron.formats.yang.fields import Malformed, inside, items, text_at
from greyheron.model.document import Network

NETWORKS = "ietf-network:networks"
_POINT = "ietf-network-topology:termination-point"
_LINK = "ietf-network-topology:link"
_LAYER = "ietf-l3-unicast-topology"
WIRES, ADDRESSES = "wires", "addresses"


def topology_of(network: Network) -> dict[str, Any]:
    """Two networks: that of the wires, each link both ways (RFC 8345 4.4.5), on it that of addresses."""
    nodes = [
        {"node-id": device.name} | _listed(_POINT, [{"tp-id": each.name} for each in device.interfaces])
        for device in network.devices
    ]
    links = []
    for link in network.links:
        if link.enabled:
            ends = [end.split(":", 1) for end in link.ends]
            links += [_link(*ends), _link(*reversed(ends))]
    wires: dict[str, Any] = {"network-id": WIRES} | _listed("node", nodes) | _listed(_LINK, links)
    upper = []
    for device in network.devices:
        points = [
            {
                "tp-id": each.name,
                f"{_LAYER}:l3-termination-point-attributes": {
                    "ip-address": [str(address.ip) for address in each.addresses]
                },
            }
            for each in device.interfaces
            if each.addresses
        ]
        if points:
            below = {"network-ref": WIRES, "node-ref": device.name}
            upper.append({"node-id": device.name, "supporting-node": [below], _POINT: points})
    addresses = {
        "network-id": ADDRESSES,
        "network-types": {f"{_LAYER}:l3-unicast-topology": {}},
        "supporting-network": [{"network-ref": WIRES}],
    } | _listed("node", upper)
    return {NETWORKS: {"network": [wires, addresses]}}


def _listed(key: str, found: list[dict[str, Any]]) -> dict[str, Any]:
    return {key: found} if found else {}


def _link(near: list[str], far: list[str]) -> dict[str, Any]:
    return {
        "link-id": f"{':'.join(near)} {':'.join(far)}",
        "source": {"source-node": near[0], "source-tp": near[1]},
        "destination": {"dest-node": far[0], "dest-tp": far[1]},
    }


class Drawn:
    """What topologies say: the interfaces of each node, and pairs of ends that are joined."""

    def __init__(self) -> None:
        self.nodes: dict[str, list[str]] = {}
        self.links: dict[frozenset[End], tuple[End, End]] = {}

    def take(self, content: Mapping[str, Any], where: str) -> None:
        """Raises Malformed."""
        for network in items(inside(content, NETWORKS), "network"):
            if network.get("network-types"):
                continue  # a view of what another network says: its wires are not wires
            for node in items(network, "node"):
                points = self.nodes.setdefault(text_at(node, "node-id", where), [])
                points += [text_at(each, "tp-id", where) for each in items(node, _POINT)]
            for link in items(network, _LINK):
                ends = tuple(
                    (
                        text_at(inside(link, side), f"{short}-node", where),
                        text_at(inside(link, side), f"{short}-tp", where),
                    )
                    for side, short in (("source", "source"), ("destination", "dest"))
                )
                if ends[0] == ends[1]:
                    raise Malformed(f"{where}: the link {link.get('link-id')} ends where it begins")
                self.links.setdefault(frozenset(ends), (ends[0], ends[1]))
