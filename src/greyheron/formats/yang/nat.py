"""Address translation as RFC 8512 says it: an instance for each outside interface."""

from collections.abc import Mapping
from ipaddress import IPv4Interface, IPv6Interface, ip_network
from typing import Any

from greyheron.formats.format import Notice
from greyheron.formats.yang.fields import Malformed, inside, items, prefix_of, text_at
from greyheron.model.device import Device, Translation
from greyheron.model.item import family_of
from greyheron.model.names import TCP, UDP
from greyheron.model.values import Family

NAT = "ietf-nat:nat"
_NUMBERS = {"tcp": TCP, "udp": UDP}
PortAddresses = Mapping[str, list[IPv4Interface | IPv6Interface]]
"""Interfaces, with the addresses that they have."""
_PROTOCOLS = {number: name for name, number in _NUMBERS.items()}


def nat_of(device: Device, left_out: list[Notice]) -> dict[str, Any]:
    """The part of a device's instance that says its translations; empty where it has none.

    Which interfaces are inside, and pools of IPv6, the standard cannot say: `left_out` takes them.
    """
    if not device.translations:
        return {}
    instances = []
    for number, outside in enumerate(dict.fromkeys(each.outside for each in device.translations), 1):
        rules = [each for each in device.translations if each.outside == outside]
        policies: list[dict[str, Any]] = []
        for rule in (each for each in rules if each.kind == "dynamic"):
            if rule.to is not None and family_of(rule.to) is Family.IPV6:
                left_out.append(
                    Notice(f"{device.name}, {outside}", f"the pool {rule.to}: our own module says it")
                )
                continue
            policies.append(_policy(len(policies) + 1, rule))
        realm = {"external-realm": {"external-interface": outside}}
        policies = [each | realm for each in policies] or [{"id": 1} | realm]
        found: dict[str, Any] = {"id": number, "name": outside, "policy": policies}
        mappings = [
            _mapping(index, each)
            for index, each in enumerate((each for each in rules if each.kind == "static"), 1)
        ]
        if mappings:
            found["mapping-table"] = {"mapping-entry": mappings}
        instances.append(found)
    return {NAT: {"instances": {"instance": instances}}}


def _policy(number: int, rule: Translation) -> dict[str, Any]:
    found: dict[str, Any] = {"id": number, "subscriber-match": [{"match-id": 1, "subnet": str(rule.source)}]}
    if rule.to is not None:
        found["external-ip-address-pool"] = [{"pool-id": 1, "external-ip-pool": str(rule.to)}]
    return found


def _mapping(index: int, rule: Translation) -> dict[str, Any]:
    found: dict[str, Any] = {
        "index": index,
        "type": "static",
        "internal-src-address": str(rule.source),
        "external-src-address": str(rule.to),
    }
    if rule.protocol is not None and rule.port is not None:
        found["transport-protocol"] = _NUMBERS[rule.protocol]
        found["internal-src-port"] = {"start-port-number": rule.port}
        found["external-src-port"] = {"start-port-number": rule.to_port or rule.port}
    return found


def read_nat(
    content: Mapping[str, Any],
    held: PortAddresses,
    ports: Mapping[str, str],
    where: str,
    doubted: list[Notice],
    guessed: list[Notice],
) -> list[dict[str, Any]]:
    """Translations of a device. Raises Malformed where there are no instances to read.

    held:  its interfaces with addresses;  ports:  what its interfaces are called here
    doubted, guessed:  take what is said of instances that cannot be read, and of guesses
    """
    found: list[dict[str, Any]] = []
    for instance in items(inside(inside(content, NAT), "instances"), "instance"):
        here = f"{where}, translation {instance.get('id')}"
        try:
            found += _rules(instance, held, ports, here, guessed)
        except Malformed as error:
            doubted.append(Notice(where, f"{error}: what it does is not known"))
    return found


def _rules(
    instance: Mapping[str, Any],
    held: PortAddresses,
    ports: Mapping[str, str],
    here: str,
    guessed: list[Notice],
) -> list[dict[str, Any]]:
    found: list[dict[str, Any]] = []
    policies = items(instance, "policy")
    for each in items(inside(instance, "mapping-table"), "mapping-entry"):
        found.append(_static(each, here))
    for policy in policies:
        pools = items(policy, "external-ip-address-pool")
        if len(pools) > 1:
            raise Malformed(f"{here}: several pools of one policy cannot be said")
        to = {"to": prefix_of(text_at(pools[0], "external-ip-pool", here), here)} if pools else {}
        for each in items(policy, "subscriber-match"):
            source = prefix_of(text_at(each, "subnet", here), here)
            found.append({"kind": "dynamic", "source": source} | to)
    realms = [inside(each, "external-realm") for each in policies]
    told = next((text_at(each, "external-interface", here) for each in realms if each), None)
    if told is None:
        outside = _holding([each["to"] for each in found if "to" in each], held)
        if outside is None:
            raise Malformed(f"{here}: it has no external interface, and none holds its outside addresses")
        guessed.append(
            Notice(here, f"its external interface is not said: {outside} holds its outside addresses")
        )
    else:
        outside = ports.get(told, told)
    rule = {"inside": [each for each in held if each != outside], "outside": outside}
    return [rule | each for each in found]


def _holding(outside: list[str], held: PortAddresses) -> str | None:
    """The one interface on whose prefixes all outside addresses are."""
    holding = [
        port
        for port, addresses in held.items()
        if outside
        and all(
            any(
                one.version == each.version and one.subnet_of(each)  # type: ignore[arg-type]
                for each in (address.network for address in addresses)
            )
            for one in map(ip_network, outside)
        )
    ]
    return holding[0] if len(holding) == 1 else None


def _static(told: Mapping[str, Any], here: str) -> dict[str, Any]:
    if told.get("type") != "static":
        raise Malformed(f"{here}: only static mappings can be said, and this is {told.get('type')}")
    found: dict[str, Any] = {
        "kind": "static",
        "source": prefix_of(text_at(told, "internal-src-address", here), here),
        "to": prefix_of(text_at(told, "external-src-address", here), here),
    }
    number = told.get("transport-protocol")
    if number is None:
        return found
    own, other = (
        inside(told, f"{side}-src-port").get("start-port-number") for side in ("internal", "external")
    )
    if number not in _PROTOCOLS or own is None:
        raise Malformed(f"{here}: a mapping of a service says tcp or udp, and its port")
    return found | {"protocol": _PROTOCOLS[number], "port": own} | ({"to_port": other} if other else {})
