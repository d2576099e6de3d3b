"""Static routes and gateways as RFC 8349 says them."""

from collections.abc import Iterator, Mapping
from ipaddress import IPv4Network, IPv6Network, ip_address
from typing import Any

from greyheron.formats.format import Notice
from greyheron.formats.yang.fields import Malformed, fields, inside, items, text_at
from greyheron.model.device import Device, Route
from greyheron.model.item import Prefix, family_of
from greyheron.model.values import Family

ROUTING = "ietf-routing:routing"
_STATIC, _DIRECT = "ietf-routing:static", "ietf-routing:direct"
_MODULE = {Family.IPV4: "ietf-ipv4-unicast-routing", Family.IPV6: "ietf-ipv6-unicast-routing"}
_EVERYWHERE = {Family.IPV4: "0.0.0.0/0", Family.IPV6: "::/0"}
_NOWHERE = "unreachable"
_DISCARDS = frozenset(("blackhole", _NOWHERE))


def routing_of(device: Device, left_out: list[Notice]) -> dict[str, Any]:
    """The part of a device's instance that says its static routes; empty where it has none.

    The standard has one route for a prefix: the preferred ones are written, `left_out` takes the others.
    """
    static = {}
    for family, module in _MODULE.items():
        gateway = device.gateway if family is Family.IPV4 else device.gateway6
        routes = (
            [] if gateway is None else [_route(_EVERYWHERE[family], [{"next-hop-address": str(gateway)}])]
        )
        own = [each for each in device.routes if family_of(each.to) is family]
        for prefix in dict.fromkeys(each.to for each in own):
            routes.append(_routes_to(prefix, [each for each in own if each.to == prefix], device, left_out))
        if routes:
            static[f"{module}:{family}"] = {"route": routes}
    if not static:
        return {}
    protocol = {"type": _STATIC, "name": "static", "static-routes": static}
    return {ROUTING: {"control-plane-protocols": {"control-plane-protocol": [protocol]}}}


def _routes_to(prefix: Prefix, routes: list[Route], device: Device, left_out: list[Notice]) -> dict[str, Any]:
    best = min(each.preference for each in routes)
    used = [each for each in routes if each.preference == best]
    if len(used) < len(routes):
        left_out.append(
            Notice(f"{device.name}, {prefix}", "routes with another preference: our own module says them")
        )
    if any(each.discard for each in used):
        return {"destination-prefix": str(prefix), "next-hop": {"special-next-hop": _NOWHERE}}
    return _route(str(prefix), [_hop(each) for each in used])


def _hop(route: Route) -> dict[str, str]:
    hop = {} if route.interface is None else {"outgoing-interface": route.interface}
    return hop if route.via is None else hop | {"next-hop-address": str(route.via)}


def _route(prefix: str, hops: list[dict[str, str]]) -> dict[str, Any]:
    if len(hops) == 1:
        return {"destination-prefix": prefix, "next-hop": hops[0]}
    listed = [{"index": str(number)} | hop for number, hop in enumerate(hops, 1)]
    return {"destination-prefix": prefix, "next-hop": {"next-hop-list": {"next-hop": listed}}}


def read_routing(
    content: Mapping[str, Any], forwards: bool, where: str, ports: Mapping[str, str], doubted: list[Notice]
) -> dict[str, Any]:
    """Fields of a device: its routes, and of a host its gateways. Raises Malformed.

    ports:  what its interfaces are called here
    doubted:  takes what is said of routes that cannot be read, and of protocols that give others
    """
    protocols = inside(inside(content, ROUTING), "control-plane-protocols")
    found: dict[str, Any] = {}
    routes: list[dict[str, Any]] = []
    for protocol in items(protocols, "control-plane-protocol"):
        if protocol.get("type") == _DIRECT:
            continue
        if protocol.get("type") != _STATIC:
            said = f"{protocol.get('type')} is not read: which routes it gives is not known"
            doubted.append(Notice(f"{where}, {ROUTING}", said))
            continue
        static = inside(protocol, "static-routes")
        for family, module in _MODULE.items():
            for each in items(inside(static, f"{module}:{family}"), "route"):
                try:
                    read = [*_read(each, family, where, ports)]
                except Malformed as error:
                    doubted.append(Notice(where, f"{error}: where it leads is not known"))
                    continue
                for route in read:
                    gateway = "gateway" if family is Family.IPV4 else "gateway6"
                    only = set(route) == {"to", "via"} and route["to"] == _EVERYWHERE[family]
                    if not forwards and only and gateway not in found:
                        found[gateway] = route["via"]
                    else:
                        routes.append(route)
    return found | ({"routes": routes} if routes else {})


def _read(
    told: Mapping[str, Any], family: Family, where: str, ports: Mapping[str, str]
) -> Iterator[dict[str, Any]]:
    prefix = text_at(told, "destination-prefix", where)
    here = f"{where}, route to {prefix}"
    try:
        network = (IPv4Network if family is Family.IPV4 else IPv6Network)(prefix, strict=False)
    except ValueError:
        raise Malformed(f"{here}: this is no prefix of {family.word}") from None
    prefix = str(network)
    hop = fields(told.get("next-hop", {}), here)
    special = hop.get("special-next-hop")
    if special is not None:
        if special not in _DISCARDS:
            raise Malformed(f"{here}: “{special}” cannot be said")
        yield {"to": prefix, "discard": True}
        return
    several = items(inside(hop, "next-hop-list"), "next-hop") if "next-hop-list" in hop else [hop]
    for each in several:
        route = {"to": prefix}
        if "outgoing-interface" in each:
            port = text_at(each, "outgoing-interface", here)
            route["interface"] = ports.get(port, port)
        if "next-hop-address" in each:
            route["via"] = text_at(each, "next-hop-address", here)
            try:
                ip_address(route["via"])
            except ValueError:
                raise Malformed(f"{here}: {route['via']} is no address") from None
        if len(route) == 1:
            raise Malformed(f"{here}: it leads to no next hop")
        yield route
