"""Collected machines as one network: devices, how they are joined, and what is beyond them."""

from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace
from ipaddress import IPv4Interface, IPv6Interface
from typing import Any

from greyheron.core.progress import Progress, unwatched
from greyheron.formats.format import Brought, Notice
from greyheron.formats.machines.device import Made, MadeDevice, Neighbours
from greyheron.formats.machines.machine import LOOPBACK, Machine, kept_names
from greyheron.formats.machines.wiring import Bridged, Plug, wiring_of
from greyheron.model.document import FORMAT
from greyheron.model.problems import DocumentError, Problem
from greyheron.model.read import read_network
from greyheron.model.values import Family


def network_of(
    name: str, machines: Sequence[Machine], notices: Sequence[Notice], progress: Progress = unwatched
) -> Brought:
    """The network that machines make up. Raises DocumentError, Cancelled."""
    made = Made(left_out=list(notices))
    problems: list[Problem] = []
    machines = list(_apart(machines, made))
    macs = Counter(port.address for machine in machines for port in machine.ports.values())
    neighbours = Neighbours(machines)
    for number, machine in enumerate(machines):
        progress(number / (len(machines) + 1))
        try:
            MadeDevice(machine, neighbours, made, macs).add()
        except ValueError as error:
            problems.append(Problem(f"{machine.where}, ruleset", str(error)))
    if problems:
        raise DocumentError(problems)
    plugs = [plug for machine in machines for plug in _plugs(machine)]
    outside = list(_outside(machines, neighbours, made))
    taken = {each["name"] for each in made.devices}
    for each in outside:
        made.devices.append(each)
        for interface in each["interfaces"]:
            held = [IPv6Interface(a) if ":" in a else IPv4Interface(a) for a in interface["addresses"]]
            end = each["name"], interface["name"]
            plugs.append(Plug(end, end, None, frozenset(address.network for address in held)))
        taken.add(each["name"])
    wiring = wiring_of(plugs, taken)
    network = read_network(
        {
            "format": FORMAT,
            "name": name[:80] or "Machines",
            "devices": [*made.devices, *wiring.switches],
            "links": wiring.links,
            "address_sets": made.sets,
            "lists": made.lists,
            "placements": made.placements,
        }
    )
    return Brought(network, tuple(made.left_out), (*made.guessed, *wiring.guessed), made.counts)


def _apart(machines: Sequence[Machine], made: Made) -> Iterator[Machine]:
    """Each address with one holder, the first: inner networks of machines often have the same."""
    holders: dict[Any, str] = {}
    for machine in machines:
        own = {address.ip for port in machine.ports.values() for address in port.addresses}
        shared = {ip for ip in own if ip in holders}
        for ip in sorted(shared, key=str):
            told = f"{ip} is an address of {holders[ip]} too: taken for its, and left out here"
            made.left_out.append(Notice(machine.name, told))
        holders |= dict.fromkeys(own - shared, machine.name)
        yield replace(machine, ignored=frozenset(shared)) if shared else machine


def _plugs(machine: Machine) -> Iterator[Plug]:
    names = kept_names(list(machine.ports))
    for name, port in machine.ports.items():
        if name != LOOPBACK and port.addresses and "UP" in port.flags:
            tagged = machine.forwards and port.vlan is not None and port.link in names
            by = port.link if tagged else name
            networks = frozenset(
                each.network for each in port.addresses if each.network.prefixlen < each.max_prefixlen
            )
            if networks:
                ends = (machine.name, names[name]), (machine.name, names[by or name])
                bridged = None if tagged else _bridged(machine, name, names)
                yield Plug(*ends, port.vlan if tagged else None, networks, bridged)


def _bridged(machine: Machine, name: str, names: Mapping[str, str]) -> Bridged | None:
    """What is behind a bridge; None of what is none, or has no ports."""
    ports = machine.bridges.get(name)
    if not ports:
        return None
    return Bridged(tuple((names[port], _carried(machine, port)) for port in ports), _carried(machine, name))


def _carried(machine: Machine, port: str) -> dict[str, Any]:
    """The VLANs of a bridge's port as those of a switch port; nothing where it carries the usual one only."""
    untagged, tagged = machine.vlans(port)
    if tagged:
        return {"trunk": sorted({*tagged}), **({} if untagged is None else {"untagged": untagged})}
    return {} if untagged in (None, 1) else {"access": untagged}


def _outside(machines: Sequence[Machine], neighbours: Neighbours, made: Made) -> Iterator[dict[str, Any]]:
    """Networks behind next hops that nobody collected."""
    found: dict[str, tuple[str, list[str]]] = {}
    for machine in machines:
        for family in Family:
            for line in machine.routes(family):
                for hop in line.hops:
                    port = machine.ports.get(hop.dev or "")
                    if hop.gateway is None or port is None or line.connected or hop.gateway.is_link_local:
                        continue
                    if neighbours.known(hop.gateway):
                        continue
                    shared = next(
                        (each.network for each in port.addresses if hop.gateway in each.network), None
                    )
                    if shared is not None:
                        held = f"{hop.gateway}/{shared.prefixlen}"
                        found.setdefault(str(hop.gateway), (held, []))[1].append(line.prefix(family))
    for number, (gateway, (held, prefixes)) in enumerate(found.items(), 1):
        name = f"beyond-{number}"
        whole = list(dict.fromkeys(prefixes))
        made.guessed.append(
            Notice(name, f"an outside network at {gateway} for {', '.join(whole[:8])}: nobody collected it")
        )
        yield {
            "name": name,
            "kind": "outside",
            "interfaces": [{"name": "port", "addresses": [held]}],
            "prefixes": whole,
        }
