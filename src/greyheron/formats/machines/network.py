"""Collected machines as one network: devices, how they are joined, and what is beyond them."""

from collections import Counter, defaultdict
from collections.abc import Iterator, Mapping, Sequence, Set
from dataclasses import replace
from ipaddress import (
    IPv4Address,
    IPv4Interface,
    IPv4Network,
    IPv6Address,
    IPv6Interface,
    IPv6Network,
    ip_network,
)
from typing import Any

from greyheron.core.lists.frames import group_mac
from greyheron.core.progress import Progress, part, unwatched
from greyheron.core.routing.discovery import SOLICITED_NODE
from greyheron.formats.format import Brought, Notice
from greyheron.formats.machines.collection import kept_names
from greyheron.formats.machines.device import Made, MadeDevice, Neighbours
from greyheron.formats.machines.machine import LOOPBACK, Machine
from greyheron.formats.machines.printed import PortLine
from greyheron.formats.machines.wiring import Bridged, MadeBridge, Plug, wiring_of
from greyheron.model.document import FORMAT
from greyheron.model.entry import mac_text
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
    macs = Counter(
        port.address
        for machine in machines
        for port in machine.ports.values()
        if port.master not in machine.bridges  # a bridge has the address of one of its ports
    )
    neighbours = Neighbours(machines)
    for number, machine in enumerate(machines):
        share = part(progress, number, 2 * len(machines))
        try:
            MadeDevice(machine, neighbours, made, macs, share).add()
        except ValueError as error:
            problems.append(Problem(f"{machine.where}, ruleset", str(error)))
    if problems:
        raise DocumentError(problems)
    met = {machine.name: _contacts(machine) for machine in machines}
    contacts = {contact for each in met.values() for networks in each.values() for contact in networks}
    plugs = [plug for machine in machines for plug in _plugs(machine, met[machine.name], contacts)]
    outside = list(_outside(machines, neighbours, met, made))
    taken = {each["name"] for each in made.devices}
    for each in outside:
        made.devices.append(each)
        for interface in each["interfaces"]:
            held = [IPv6Interface(a) if ":" in a else IPv4Interface(a) for a in interface["addresses"]]
            end = each["name"], interface["name"]
            plugs.append(Plug(end, end, None, frozenset(address.network for address in held)))
        taken.add(each["name"])
    wiring = wiring_of(plugs, taken)
    for switch in wiring.bridges:
        _doubt_bridged(machines, switch, made)
    network = read_network(
        {
            "format": FORMAT,
            "name": name[:80] or "Machines",
            "devices": [*made.devices, *wiring.switches],
            "links": wiring.links,
            "address_sets": made.sets,
            "lists": made.lists,
            "placements": made.placements,
        },
        part(progress, 1, 2),
    )
    return Brought(network, tuple(made.left_out), (*made.guessed, *wiring.guessed), made.counts)


_MEETS_FILTER = {"ipv4": "net.bridge.bridge-nf-call-iptables", "ipv6": "net.bridge.bridge-nf-call-ip6tables"}


def _doubt_bridged(machines: Sequence[Machine], bridge: MadeBridge, made: Made) -> None:
    """Frames that a bridge passes on may meet what its machine's filter says of packets passed on."""
    machine = next(each for each in machines if each.name == bridge.machine)
    met = [kind for kind, setting in _MEETS_FILTER.items() if machine.setting(setting)]
    met = ["any"] if machine.name in made.bridging else met if machine.name in made.filtering else []
    if not met:
        return
    device = next(each for each in made.devices if each["name"] == machine.name)
    mac = next((each.get("mac") for each in device["interfaces"] if each["name"] == bridge.interface), None)
    name = f"{bridge.switch}-bridged"[:63]
    groups = [
        mac_text(group_mac(Family.IPV6, SOLICITED_NODE | int(each.ip) & 0xFF_FFFF) or 0)
        for port in machine.ports.values()
        for each in port.addresses
        if each.version == 6
    ]  # who looks for the machine itself, as far as that can be told from others with such an end
    own = [f"permit any to {each}" for each in dict.fromkeys([*([mac] if mac else []), *groups])]
    entries = [*own, *(f"maybe deny {kind}" for kind in met), "permit any"]
    note = "What is bridged meets the rules for what is passed on."
    made.lists.append({"name": name, "kind": "frame", "entries": "\n".join(entries), "note": note})
    made.placements += [
        {"list": name, "device": bridge.switch, "at": port, "direction": "in"} for port in bridge.ports
    ]
    told = "frames that it passes on meet the filter of what is passed on: what becomes of them is not known"
    made.left_out.append(Notice(f"{machine.name}, {bridge.interface}", told))


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


_Contacts = Mapping[str, frozenset[IPv4Network | IPv6Network]]


def _contacts(machine: Machine) -> _Contacts:
    """What is at a machine's links though no address of its own says so, by interface.

    The other ends of links between two, next hops said to be on the link, and what routes without a next hop
    lead to.
    """
    found: dict[str, set[IPv4Network | IPv6Network]] = defaultdict(set)
    for name, held in machine.ports.items():
        found[name] |= set(held.peers)
    for family in Family:
        for line in machine.routes(family):
            network = ip_network(line.prefix(family))
            for hop in line.hops if line.type == "unicast" else ():
                port = machine.ports.get(hop.dev or "")
                if port is None:
                    continue
                if hop.gateway is not None and "onlink" in hop.flags and not hop.gateway.is_link_local:
                    found[port.ifname].add(ip_network(hop.gateway))
                elif hop.gateway is None and hop.via is None and not _everyones(network):
                    found[port.ifname].add(network)
    return {name: frozenset(networks) for name, networks in found.items()}


def _everyones(network: IPv4Network | IPv6Network) -> bool:
    """Whether every link has such addresses, or all do: groups, link-local ones, anything."""
    return network.prefixlen == 0 or network.is_multicast or network.is_link_local


def _plugs(machine: Machine, met: _Contacts, contacts: Set[IPv4Network | IPv6Network]) -> Iterator[Plug]:
    """met:  its own contacts;  contacts:  those of all machines: who is one is at the other end"""
    names = kept_names(list(machine.ports))
    for name, port in machine.ports.items():
        if name != LOOPBACK and port.addresses and "UP" in port.flags:
            tagged = machine.forwards and port.vlan is not None and port.link in names
            by = port.link if tagged else name
            own = {each.network for each in port.addresses if each.network.prefixlen < each.max_prefixlen}
            own |= {alone for each in port.addresses if (alone := ip_network(each.ip)) in contacts}
            networks = frozenset(own | met.get(name, frozenset()))
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


def _outside(
    machines: Sequence[Machine], neighbours: Neighbours, met: Mapping[str, _Contacts], made: Made
) -> Iterator[dict[str, Any]]:
    """Networks behind next hops that nobody collected; they answer by the machine that sends to them."""
    found: dict[str, tuple[dict[str, Any], list[str]]] = {}
    for machine in machines:
        for family in Family:
            for line in machine.routes(family):
                for hop in line.hops:
                    port = machine.ports.get(hop.dev or "")
                    if hop.gateway is None or port is None or line.connected or hop.gateway.is_link_local:
                        continue
                    near = met[machine.name].get(port.ifname, frozenset())
                    beyond = None if neighbours.known(hop.gateway) else _beyond(port, hop.gateway, near)
                    if beyond is not None:
                        found.setdefault(str(hop.gateway), (beyond, []))[1].append(line.prefix(family))
    for number, (gateway, (beyond, prefixes)) in enumerate(found.items(), 1):
        name = f"beyond-{number}"
        whole = list(dict.fromkeys(prefixes))
        made.guessed.append(
            Notice(name, f"an outside network at {gateway} for {', '.join(whole[:8])}: nobody collected it")
        )
        yield {"name": name, "kind": "outside", "prefixes": whole, **beyond}


def _beyond(
    port: PortLine, gateway: IPv4Address | IPv6Address, near: Set[IPv4Network | IPv6Network]
) -> dict[str, Any] | None:
    """The port of who is at a next hop, and its way back; None where it shares no link with the machine."""
    back = next((each for each in port.addresses if gateway in each.network), None)
    if back is not None:
        held = f"{gateway}/{back.network.prefixlen}"
        way: dict[str, Any] = {"gateway" if back.version == 4 else "gateway6": str(back.ip)}
    elif ip_network(gateway) in near:
        mine = next((each.ip for each in port.addresses if each.version == gateway.version), None)
        everywhere = "0.0.0.0/0" if gateway.version == 4 else "::/0"
        held = f"{gateway}/{gateway.max_prefixlen}"
        way = {} if mine is None else {"routes": [{"to": everywhere, "via": str(mine), "interface": "port"}]}
    else:
        return None
    return {"interfaces": [{"name": "port", "addresses": [held]}], **way}
