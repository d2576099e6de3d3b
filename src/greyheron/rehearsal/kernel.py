"""Carrying a plan out: a thin layer over namespaces, netlink, the packet filter and the routing daemons.

All of it belongs to one process in namespaces of its own. What it makes has no name outside and goes with it.
"""

import ctypes
import json
import os
import shutil
import signal
import socket
import subprocess
import time
from collections.abc import Iterator, Mapping
from contextlib import contextmanager, suppress
from dataclasses import dataclass, field
from ipaddress import ip_interface
from pathlib import Path
from typing import Any

from msgspec import Struct
from pyroute2 import IPRoute, NetlinkError, NFCTSocket

from greyheron.model.values import Family
from greyheron.rehearsal.plan import DevicePlan, NetworkPlan, RoutePlan
from greyheron.rehearsal.rulebook import FRAMES, NEIGHBOURS, TABLE, Counted

_NEW_NETWORK = 0x4000_0000
_LIBC = ctypes.CDLL(None, use_errno=True)
_FOLDER = Path("/run/frr")
DAEMONS = Path("/usr/lib/frr")
_BY_FAMILY = {Family.IPV4: "ospfd", Family.IPV6: "ospf6d"}
MOST_COMMANDS = 250
"""So many are told at once: who is not root of the whole machine has a small buffer for them."""
_UNSPECIFIED = {4: "0.0.0.0/0", 6: "::/0"}
_LINK_LOCAL_SCOPE = 253
_NO_ARP = 0x40

_SETTINGS = {
    "net/ipv4/conf/{}/rp_filter": 0,
    "net/ipv4/conf/{}/arp_ignore": 1,
    "net/ipv4/conf/{}/accept_local": 1,
    "net/ipv4/conf/{}/send_redirects": 0,
    "net/ipv4/conf/{}/accept_redirects": 0,
    "net/ipv6/conf/{}/accept_redirects": 0,
    "net/ipv6/conf/{}/accept_dad": 0,
    "net/ipv6/conf/{}/accept_ra": 0,
    "net/ipv6/conf/{}/addr_gen_mode": 1,
    "net/ipv6/conf/{}/router_solicitations": 0,
}
"""For all ports: no answer for addresses of other ports, and no redirects."""
_NEIGHBOURS = {
    "net/ipv4/neigh/{}/retrans_time_ms": 100,
    "net/ipv6/neigh/{}/retrans_time_ms": 100,
    "net/ipv4/neigh/{}/delay_first_probe_time": 0,
    "net/ipv6/neigh/{}/delay_first_probe_time": 0,
    "net/ipv4/neigh/{}/locktime": 0,
    "net/ipv4/neigh/{}/proxy_delay": 0,
    "net/ipv6/neigh/{}/proxy_delay": 0,
}
"""For each port: neighbours are asked for quickly, and given up soon."""
_ONCE = {
    "net/ipv4/icmp_ratelimit": 0,
    "net/ipv4/icmp_msgs_per_sec": 100_000,
    "net/ipv4/icmp_msgs_burst": 100_000,
    "net/ipv6/icmp/ratelimit": 0,
    "net/ipv4/fib_multipath_hash_policy": 1,
    "net/ipv6/fib_multipath_hash_policy": 1,
    "net/ipv4/tcp_syncookies": 0,
    "net/ipv4/ping_group_range": "0 0",
    "net/netfilter/nf_conntrack_tcp_loose": 0,
    "net/ipv4/ip_nonlocal_bind": 0,
}


class KernelError(RuntimeError):
    """The kernel, or a program of the system, did not do what it was told; says what and where."""


class Namespace(Struct, frozen=True):
    """A network namespace that this process holds open."""

    device: str
    descriptor: int

    @contextmanager
    def entered(self) -> Iterator[None]:
        """What this thread makes meanwhile, sockets and children too, belongs to it."""
        _set_namespace(self.descriptor)
        try:
            yield
        finally:
            _set_namespace(_home())


@dataclass
class Built:
    """A plan in the kernel."""

    plan: NetworkPlan
    namespaces: dict[str, Namespace] = field(default_factory=dict)
    links: dict[str, IPRoute] = field(default_factory=dict)

    def close(self) -> None:
        for link in self.links.values():
            link.close()
        for namespace in self.namespaces.values():
            os.close(namespace.descriptor)


def build(plan: NetworkPlan) -> Iterator[tuple[str, Built]]:
    """Make everything, stage by stage: the name of the stage that begins, and what there is so far."""
    built = Built(plan)
    yield "namespaces", built
    for place in plan.places.values():
        _make_namespace(built, place)
    yield "wires", built
    _wire(built)
    yield "addresses and routes", built
    for place in plan.places.values():
        with _told(place.device), built.namespaces[place.device].entered():
            _address(built, place)
    yield "lists", built
    load_rules(built, plan)
    yield "routing daemons", built
    _start_daemons(built)


def change(built: Built, plan: NetworkPlan) -> None:
    """Another moment of the same network: its rules, and the static routes that are in use then."""
    for place in plan.places.values():
        before, link = built.plan.places[place.device].routes, built.links[place.device]
        index = _indices(link)
        with _told(place.device):
            for route in (each for each in before if each not in place.routes):
                link.route("del", **_route(route, index))
            for route in (each for each in place.routes if each not in before):
                link.route("add", **_route(route, index))
    built.plan = plan
    load_rules(built, plan)


def restart_daemons(built: Built) -> None:
    """Routing begins anew: neighbours that would not find each other now may have found each other before."""
    for file in _FOLDER.glob("d*/*.pid"):
        with suppress(ProcessLookupError):
            os.kill(int(file.read_text()), signal.SIGKILL)
    shutil.rmtree(_FOLDER, ignore_errors=True)
    for place in built.plan.places.values():
        if place.daemons is not None:
            for words in (["-4"], ["-6"]):
                with built.namespaces[place.device].entered():
                    subprocess.run(["ip", *words, "route", "flush", "proto", "ospf"], capture_output=True)
    _start_daemons(built)


def load_rules(built: Built, plan: NetworkPlan) -> None:
    """Put the rules of a plan in place of those that are there."""
    for place in plan.places.values():
        flush: list[dict[str, Any]] = []
        for table in (TABLE, FRAMES, NEIGHBOURS):
            flush += [{"add": {"table": dict(table)}}, {"delete": {"table": dict(table)}}]
        commands = [*flush, *place.rules.commands]
        with built.namespaces[place.device].entered():
            for first in range(0, len(commands), MOST_COMMANDS):
                _filter(place.device, commands[first : first + MOST_COMMANDS])


def counters(built: Built, device: str) -> dict[str, int]:
    """How many packets each counter of a device has counted."""
    with built.namespaces[device].entered():
        done = subprocess.run(["nft", "-j", "list", "counters"], capture_output=True, text=True, check=True)
    found = (each["counter"] for each in json.loads(done.stdout)["nftables"] if "counter" in each)
    return {each["name"]: each["packets"] for each in found}


def counted(built: Built) -> dict[Counted, int]:
    """What every list of the network has counted."""
    found: dict[Counted, int] = {}
    for place in built.plan.places.values():
        if place.rules.counters:
            numbers = counters(built, place.device)
            for name, what in place.rules.counters.items():
                if numbers.get(name):
                    found[what] = found.get(what, 0) + numbers[name]
    return found


def forget_neighbours(built: Built) -> None:
    """Who was found, or not found, is looked for again."""
    for link in built.links.values():
        for family in (socket.AF_INET, socket.AF_INET6):
            for each in list(link.get_neighbours(family=family)):
                if not each["state"] & _NO_ARP:
                    with suppress(NetlinkError):  # it has gone by itself
                        link.neigh("del", dst=each.get_attr("NDA_DST"), ifindex=each["ifindex"])


def forget_conversations(built: Built) -> None:
    """No device knows anything of what was sent before."""
    for namespace in built.namespaces.values():
        with namespace.entered(), NFCTSocket() as tracker:
            tracker.flush()


def routes_learnt(built: Built, device: str) -> set[tuple[str, str, str]]:
    """What the routing daemons of a device put into its table: (prefix, port, next hop)."""
    found: set[tuple[str, str, str]] = set()
    for words in (["-4"], ["-6"]):
        with built.namespaces[device].entered():
            done = subprocess.run(
                ["ip", "-j", *words, "route", "show", "proto", "ospf"],
                capture_output=True,
                text=True,
                check=True,
            )
        for each in json.loads(done.stdout or "[]"):
            whole = _UNSPECIFIED[4 if words == ["-4"] else 6]
            prefix = whole if each["dst"] == "default" else each["dst"]
            hops = each.get("nexthops") or [each]
            found |= {(prefix, hop.get("dev", ""), hop.get("gateway", hop.get("via", ""))) for hop in hops}
    return found


def _make_namespace(built: Built, place: DevicePlan) -> None:
    if _LIBC.unshare(_NEW_NETWORK):
        raise KernelError(f"no namespace for {place.device}: {os.strerror(ctypes.get_errno())}")
    _home_was = _home()
    descriptor = os.open("/proc/self/ns/net", os.O_RDONLY | os.O_CLOEXEC)
    namespace = Namespace(place.device, descriptor)
    built.namespaces[place.device] = namespace
    link = IPRoute()
    built.links[place.device] = link
    link.link("set", index=1, state="up")
    for which in ("all", "default", "lo"):
        _set(_SETTINGS, which)
    _set(_ONCE)
    if place.forwards:
        _set({"net/ipv4/ip_forward": 1, "net/ipv6/conf/all/forwarding": 1})
    _set_namespace(_home_was)


def _wire(built: Built) -> None:
    plan = built.plan
    macs = {(place.device, port.name): port.mac for place in plan.places.values() for port in place.ports}
    for wire in plan.wires:
        device, name = wire.near
        far_device, far_name = wire.far or (device, f"x{name}")
        peer: dict[str, Any] = {"ifname": far_name}
        if far_device != device:
            peer["net_ns_fd"] = built.namespaces[far_device].descriptor
        if macs.get((far_device, far_name)):
            peer["address"] = macs[far_device, far_name]
        more = {"address": macs[wire.near]} if macs.get(wire.near) else {}
        with _told(device):
            built.links[device].link("add", ifname=name, kind="veth", peer=peer, **more)
    for place in plan.places.values():
        link = built.links[place.device]
        with _told(place.device):
            for bridge in place.bridges:
                # Groups are flooded as everything is that is for nobody known.
                link.link("add", ifname=bridge, kind="bridge", br_mcast_snooping=0)
            index = _indices(link)
            for port in place.ports:
                if port.bridge is not None:
                    link.link("set", index=index[port.name], master=index[port.bridge])
            for each in index.values():
                link.link("set", index=each, state="up")
            with built.namespaces[place.device].entered():
                for port in place.ports:
                    _set(_NEIGHBOURS, port.name)


def _address(built: Built, place: DevicePlan) -> None:
    link = built.links[place.device]
    index = _indices(link)
    for port in place.ports:
        for address in port.addresses:
            held = ip_interface(address)
            more: dict[str, Any] = {}
            if held.version == 6:
                more = {"flags": 0x02, "scope": _LINK_LOCAL_SCOPE if held.ip.is_link_local else 0}
            link.addr(
                "add", index=index[port.name], address=str(held.ip), mask=held.network.prefixlen, **more
            )
    for prefix in place.local:
        link.route("add", dst=prefix, oif=index["lo"], type="local", table=255, scope="host")
    for route in place.routes:
        link.route("add", **_route(route, index))
    for answered, at in place.answered:
        _answer_for(link, index, answered, at)


def _route(route: RoutePlan, index: Mapping[str, int]) -> dict[str, Any]:
    found: dict[str, Any] = {"dst": route.prefix, "priority": route.metric}
    if not route.hops:
        return {**found, "type": "throw"}
    hops = [
        {"oif": index[port], **({} if via is None else {"gateway": via, "flags": ["onlink"]})}
        for port, via in route.hops
    ]
    if len(hops) > 1:
        return {**found, "multipath": hops}
    if route.hops[0][1] is None:
        return {**found, "oif": index[route.hops[0][0]], "scope": "link"}
    return {**found, "oif": index[route.hops[0][0]], "gateway": route.hops[0][1], "flags": ["onlink"]}


def _answer_for(link: IPRoute, index: Mapping[str, int], address: str, port: str) -> None:
    """A neighbour that the device answers for; over IPv4 the packet filter says for whom."""
    if ":" in address:
        link.neigh("add", dst=address, ifindex=index[port], flags=0x08)
        _set({"net/ipv6/conf/{}/proxy_ndp": 1}, port)
    else:
        _set({"net/ipv4/conf/{}/proxy_arp_pvlan": 1}, port)


def _start_daemons(built: Built) -> None:
    speaking = [place for place in built.plan.places.values() if place.daemons is not None]
    if not speaking:
        return
    if not DAEMONS.is_dir():
        raise KernelError("the routing daemons are missing: install the package frr")
    _FOLDER.mkdir(exist_ok=True)
    for number, place in enumerate(speaking):
        assert place.daemons is not None
        folder = _FOLDER / f"d{number}"
        folder.mkdir()
        file = folder / "configuration"
        file.write_text(f"log file {folder}/log\n{place.daemons.configuration}")
        for daemon in ("zebra", *(_BY_FAMILY[family] for family in place.daemons.families)):
            with built.namespaces[place.device].entered():
                command = [str(DAEMONS / daemon), "-d", "-u", "root", "-g", "root", "-N", folder.name]
                command += ["-A", "127.0.0.1", "-P", "0", "-f", str(file)]
                done = subprocess.run(command, capture_output=True, text=True)
            if done.returncode:
                raise KernelError(f"{daemon} of {place.device} did not start: {done.stderr.strip()[-400:]}")


def _filter(device: str, commands: list[dict[str, Any]]) -> None:
    told = json.dumps({"nftables": commands})
    done = subprocess.run(["nft", "-j", "-f", "-"], input=told, capture_output=True, text=True)
    if done.returncode:
        raise KernelError(f"the packet filter of {device} refused its rules: {done.stderr.strip()[-600:]}")


def _indices(link: IPRoute) -> dict[str, int]:
    return {each.get_attr("IFLA_IFNAME"): each["index"] for each in link.get_links()}


def _set(settings: Mapping[str, Any], which: str = "") -> None:
    for name, value in settings.items():
        path = Path("/proc/sys", name.format(which))
        if path.exists():
            path.write_text(str(value))


@contextmanager
def _told(device: str) -> Iterator[None]:
    try:
        yield
    except Exception as error:
        raise KernelError(f"{device}: {error}") from error


def _set_namespace(descriptor: int) -> None:
    if _LIBC.setns(descriptor, _NEW_NETWORK):
        raise KernelError(f"a namespace cannot be entered: {os.strerror(ctypes.get_errno())}")


_HOME: list[int] = []


def _home() -> int:
    """The namespace in which this process began."""
    if not _HOME:
        _HOME.append(os.open("/proc/thread-self/ns/net", os.O_RDONLY | os.O_CLOEXEC))
    return _HOME[0]


def wait_for_routes(
    built: Built, expected: Mapping[str, set[tuple[str, str, str]]], seconds: float
) -> dict[str, set[tuple[str, str, str]]]:
    """Wait for the daemons to come to just these routes: in what each device differs after some seconds."""
    end = time.monotonic() + seconds
    differing = _differing(built, expected)
    while differing and time.monotonic() < end:
        time.sleep(0.1)
        left = _differing(built, {device: expected[device] for device in differing})
        differing = left or _differing(built, expected)
    return differing


def _differing(
    built: Built, expected: Mapping[str, set[tuple[str, str, str]]]
) -> dict[str, set[tuple[str, str, str]]]:
    found = {device: routes_learnt(built, device) ^ routes for device, routes in expected.items()}
    return {device: routes for device, routes in found.items() if routes}
