"""Which machines are joined: worked out from shared prefixes, since none says what it is plugged into."""

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from ipaddress import IPv4Network, IPv6Network
from typing import Any

from greyheron.formats.format import Notice

End = tuple[str, str]
"""Device and interface."""
FIRST_OWN_VLAN = 3000
"""Segments without a tag that meet tagged ones at a switch get a VLAN of their own from here on."""


@dataclass(frozen=True, slots=True)
class Plug:
    """An interface with addresses. `port`: what it is plugged in by, itself unless it is tagged."""

    end: End
    port: End
    vlan: int | None
    networks: frozenset[IPv4Network | IPv6Network]


@dataclass
class Wiring:
    """Links and the switches that they take; `guessed` says each of them in words."""

    links: list[dict[str, Any]] = field(default_factory=list)
    switches: list[dict[str, Any]] = field(default_factory=list)
    guessed: list[Notice] = field(default_factory=list)


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


def _carrying(vlans: Mapping[int | None, int]) -> dict[str, Any]:
    """The settings of a port that carries VLANs, by the tags that its neighbour puts on."""
    tagged = sorted(number for tag, number in vlans.items() if tag is not None)
    if not tagged:
        return {"access": vlans[None]}
    return {"trunk": tagged, **({"untagged": vlans[None]} if None in vlans else {})}


def _written(end: End) -> str:
    return f"{end[0]}:{end[1]}"
