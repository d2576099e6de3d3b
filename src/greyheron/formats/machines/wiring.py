"""Which machines are joined: worked out from shared prefixes, since none says what it is plugged into."""

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from ipaddress import IPv4Network, IPv6Network
from typing import Any

from msgspec import Struct

from greyheron.formats.format import Notice

End = tuple[str, str]
"""Device and interface."""
FIRST_OWN_VLAN = 3000
"""Segments without a tag that meet tagged ones at a switch get a VLAN of their own from here on."""


class Bridged(Struct, frozen=True):
    """The ports behind an interface that is a bridge: names, and the settings of those that carry VLANs."""

    ports: tuple[tuple[str, Mapping[str, Any]], ...]
    own: Mapping[str, Any]


class MadeBridge(Struct, frozen=True):
    """A machine's bridge that became a switch, and its ports to others than the machine."""

    machine: str
    interface: str
    switch: str
    ports: tuple[str, ...]


class Plug(Struct, frozen=True):
    """An interface with addresses.

    port:  what it is plugged in by, itself unless it is tagged
    bridged:  what is behind it, if it is a bridge
    """

    end: End
    port: End
    vlan: int | None
    networks: frozenset[IPv4Network | IPv6Network]
    bridged: Bridged | None = None


@dataclass
class Wiring:
    """Links and the switches that they take; `guessed` says each of them in words."""

    links: list[dict[str, Any]] = field(default_factory=list)
    switches: list[dict[str, Any]] = field(default_factory=list)
    guessed: list[Notice] = field(default_factory=list)
    bridges: list[MadeBridge] = field(default_factory=list)


def wiring_of(plugs: Sequence[Plug], taken: set[str]) -> Wiring:
    """Join what shares a prefix. `taken`: names of devices that no switch may have."""
    made = Wiring()
    for segments in _apart(plugs):
        _wire(segments, taken, made)
    return made


def _apart(plugs: Sequence[Plug]) -> Iterator[list[list[Plug]]]:
    """Segments that meet at some port, together; each is the plugs that share prefixes."""
    segments: list[tuple[set[Any], list[Plug]]] = []
    for plug in plugs:
        networks, members = set(plug.networks), [plug]
        for known in [each for each in segments if each[0] & networks]:
            segments.remove(known)
            networks |= known[0]
            members = [*known[1], *members]
        segments.append((networks, members))
    groups: list[tuple[set[End], list[list[Plug]]]] = []
    for _, members in segments:
        ports, together = {plug.port for plug in members}, [members]
        for group in [each for each in groups if each[0] & ports]:
            groups.remove(group)
            ports |= group[0]
            together = [*group[1], *together]
        groups.append((ports, together))
    for _, together in groups:
        yield together


def _wire(segments: list[list[Plug]], taken: set[str], made: Wiring) -> None:
    ports = sorted({plug.port for members in segments for plug in members})
    tagged = any(plug.vlan is not None for members in segments for plug in members)
    prefixes = sorted({str(network) for members in segments for plug in members for network in plug.networks})
    bridges = {plug.port: plug.bridged for members in segments for plug in members if plug.bridged}
    if bridges and not tagged:
        _hang_on(bridges, ports, prefixes, taken, made)
        return
    for port, bridged in bridges.items():
        behind = ", ".join(name for name, _ in bridged.ports)
        made.guessed.append(Notice(_written(port), f"a bridge among tagged ports: it stands for {behind}"))
    if len(ports) == 1 and not tagged:
        made.guessed.append(
            Notice(_written(ports[0]), f"nobody else is in {', '.join(prefixes)}: not joined")
        )
        return
    if len(ports) == 2 and not tagged:
        made.links.append({"ends": [_written(port) for port in ports]})
        shared = f"both are in {', '.join(prefixes)}"
        made.guessed.append(Notice(" – ".join(map(_written, ports)), f"joined, since {shared}"))
        return
    name = next(each for each in (f"sw-{number}" for number in range(1, 100_000)) if each not in taken)
    taken.add(name)
    carried: dict[End, dict[int | None, int]] = {port: {} for port in ports}
    own = FIRST_OWN_VLAN
    for members in segments:
        tags = sorted({plug.vlan for plug in members if plug.vlan is not None})
        number = tags[0] if tags else own if tagged else 1
        own += not tags
        for plug in members:
            carried[plug.port][plug.vlan] = number
    made.switches.append(
        {
            "name": name,
            "kind": "switch",
            "interfaces": [
                {"name": f"p{place}", **(_carrying(carried[port]) if tagged else {})}
                for place, port in enumerate(ports, 1)
            ],
            "note": f"Worked out from shared prefixes: {', '.join(prefixes)}."[:200],
        }
    )
    made.links += [{"ends": [f"{name}:p{place}", _written(port)]} for place, port in enumerate(ports, 1)]
    made.guessed.append(
        Notice(
            name,
            f"a switch between {', '.join(map(_written, ports))}, since they share {', '.join(prefixes)}",
        )
    )


def _hang_on(
    bridges: Mapping[End, Bridged], ports: list[End], prefixes: list[str], taken: set[str], made: Wiring
) -> None:
    """Who shares a segment with machines that are bridges is plugged into those, one into each port."""
    free: list[str] = []
    shared = f"they share {', '.join(prefixes)}"
    for (machine, interface), bridged in bridges.items():
        name = _free_name(f"{machine}-{interface}"[:60], taken)
        own = _free_name(interface, {port for port, _ in bridged.ports})
        interfaces = [{"name": own, **bridged.own}, *({"name": port, **how} for port, how in bridged.ports)]
        note = f"The bridge {interface} of {machine}."
        made.switches.append({"name": name, "kind": "switch", "interfaces": interfaces, "note": note})
        made.links.append({"ends": [f"{name}:{own}", f"{machine}:{interface}"]})
        behind = tuple(port for port, _ in bridged.ports)
        made.bridges.append(MadeBridge(machine, interface, name, behind))
        open_ports = [f"{name}:{port}" for port in behind]
        if free and open_ports:
            made.links.append({"ends": [free.pop(0), open_ports[0]]})
            made.guessed.append(Notice(" – ".join(made.links[-1]["ends"]), f"joined, since {shared}"))
            del open_ports[0]
        free += open_ports
    for port in (each for each in ports if each not in bridges):
        if not free:
            made.guessed.append(
                Notice(_written(port), f"no port of a bridge is left for it, though {shared}")
            )
            continue
        made.links.append({"ends": [free.pop(0), _written(port)]})
        made.guessed.append(Notice(" – ".join(made.links[-1]["ends"]), f"joined, since {shared}: any port"))


def _free_name(name: str, taken: set[str]) -> str:
    free = next(each for each in (name, *(f"{name}-{n}" for n in range(2, 10_000))) if each not in taken)
    taken.add(free)
    return free


def _carrying(vlans: Mapping[int | None, int]) -> dict[str, Any]:
    """The settings of a port that carries VLANs, by the tags that its neighbour puts on."""
    tagged = sorted(number for tag, number in vlans.items() if tag is not None)
    if not tagged:
        return {"access": vlans[None]}
    return {"trunk": tagged, **({"untagged": vlans[None]} if None in vlans else {})}


def _written(end: End) -> str:
    return f"{end[0]}:{end[1]}"
