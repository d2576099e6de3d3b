"""A packet filter read literally: what its rules decide of one packet, statement by statement."""

from ipaddress import ip_address, ip_network
from random import Random
from typing import Any

from greyheron.core.packet import Packet
from greyheron.model.header import TcpFlags
from greyheron.model.names import TCP, UDP
from greyheron.model.values import Family

Rules = dict[str, list[list[dict[str, Any]]]]
"""The expressions of each rule of each chain."""
_NUMBER = {"tcp": TCP, "udp": UDP, "icmp": 1}
ADDRESSES = [
    "172.20.16.10",
    "172.20.16.11",
    "172.20.16.1",
    "172.20.40.10",
    "172.20.40.1",
    "172.20.0.1",
    "172.20.9.9",
]
PORTS = [22, 23, 80, 443, 8001]


def decided(rules: Rules, chain: str, packet: Packet, arrives: str, leaves: str | None) -> str | None:
    """accept, drop or reject; None where the chain ends, or returns."""
    for expressions in rules[chain]:
        found = _rule(rules, expressions, packet, arrives, leaves)
        if found == "return":
            return None
        if found is not None:
            return found
    return None


def _rule(
    rules: Rules, expressions: list[Any], packet: Packet, arrives: str, leaves: str | None
) -> str | None:
    for expression in expressions:
        ((kind, told),) = expression.items()
        if kind == "match":
            if not _matches(told, packet, arrives, leaves):
                return None
        elif kind == "jump":
            return decided(rules, told["target"], packet, arrives, leaves)
        elif kind == "vmap":
            value = _value(told["key"], packet, arrives, leaves)
            for key, verdict in told["data"]["set"]:
                if _holds(key, value):
                    return _rule(rules, [verdict], packet, arrives, leaves)
            return None
        elif kind != "counter":
            return str(kind)
    return None


def _matches(match: dict[str, Any], packet: Packet, arrives: str, leaves: str | None) -> bool:
    value = _value(match["left"], packet, arrives, leaves)
    if value is None:
        return False
    found = _holds(match["right"], value)
    return not found if match["op"] == "!=" else found


def _value(left: dict[str, Any], packet: Packet, arrives: str, leaves: str | None) -> Any:
    ((kind, told),) = left.items()
    if kind == "meta":
        return {"iifname": arrives, "oifname": leaves, "l4proto": packet.protocol}[told["key"]]
    field = told["field"]
    if told["protocol"] == "ip":
        assert packet.source is not None
        return ip_address(packet.source if field == "saddr" else packet.destination)
    if told["protocol"] in ("tcp", "udp") and packet.protocol != _NUMBER[told["protocol"]]:
        return None
    if told["protocol"] == "icmp":
        return packet.icmp_type if packet.protocol == 1 else None
    return packet.source_port if field == "sport" else packet.destination_port


def _holds(right: Any, value: Any) -> bool:
    if isinstance(right, dict) and "set" in right:
        return any(_holds(each, value) for each in right["set"])
    if isinstance(right, dict) and "range" in right:
        low, high = right["range"]
        return bool(low <= value <= high)
    if isinstance(right, dict) and "prefix" in right:
        return value in ip_network(f"{right['prefix']['addr']}/{right['prefix']['len']}")
    if isinstance(right, str) and right in _NUMBER and isinstance(value, int):
        return value == _NUMBER[right]
    if right == "echo-request":
        return bool(value == 8)
    return bool(str(value) == str(right))


def random_rules(chance: Random, chain: str, sides: tuple[str, ...]) -> Rules:
    """A chain that may jump to another; `sides`: which of iifname and oifname it may ask for."""
    rules: Rules = {chain: [], "further": [_random_rule(chance, sides, jump=False) for _ in range(3)]}
    for _ in range(chance.randrange(1, 7)):
        rules[chain].append(_random_rule(chance, sides, jump=chance.random() < 0.2))
    return rules


def _random_rule(chance: Random, sides: tuple[str, ...], jump: bool) -> list[dict[str, Any]]:
    found: list[dict[str, Any]] = []
    for side in sides:
        if chance.random() < 0.3:
            found.append(_match({"meta": {"key": side}}, chance.choice(["lan", "up", "lab"]), chance))
    for field in ("saddr", "daddr"):
        if chance.random() < 0.5:
            found.append(_match({"payload": {"protocol": "ip", "field": field}}, _addresses(chance), chance))
    draw = chance.random()
    if draw < 0.5:
        protocol = chance.choice(["tcp", "udp"])
        port: Any = chance.choice(PORTS)
        if chance.random() < 0.5:
            port = {"set": [port, {"range": [80, 443]}]}
        found.append(_match({"payload": {"protocol": protocol, "field": "dport"}}, port, chance))
    elif draw < 0.6:
        found.append(_match({"meta": {"key": "l4proto"}}, {"set": ["tcp", "icmp"]}, None))
    elif draw < 0.7:
        found.append(_match({"payload": {"protocol": "icmp", "field": "type"}}, "echo-request", None))
    if jump:
        return [*found, {"jump": {"target": "further"}}]
    if chance.random() < 0.15:
        verdicts = [[port, {chance.choice(["accept", "drop"]): None}] for port in chance.sample(PORTS, 2)]
        key = {"payload": {"protocol": "tcp", "field": "dport"}}
        return [*found, {"vmap": {"key": key, "data": {"set": verdicts}}}]
    return [
        *found,
        {"counter": {"packets": 3, "bytes": 1}},
        {chance.choice(["accept", "accept", "drop", "reject"]): None},
    ]


def _match(left: dict[str, Any], right: Any, chance: Random | None) -> dict[str, Any]:
    negated = chance is not None and chance.random() < 0.2
    return {"match": {"op": "!=" if negated else "==", "left": left, "right": right}}


def _addresses(chance: Random) -> Any:
    one = chance.choice(ADDRESSES)
    return chance.choice(
        [
            one,
            {"prefix": {"addr": "172.20.16.0", "len": 24}},
            {"set": [one, {"prefix": {"addr": "172.20.40.0", "len": 25}}]},
        ]
    )


def random_packet(chance: Random) -> Packet:
    protocol = chance.choice([TCP, TCP, UDP, 1])
    source, destination = (int(ip_address(each)) for each in chance.sample(ADDRESSES, 2))
    if protocol == 1:
        kind = chance.choice([8, 13])
        return Packet(Family.IPV4, source, destination, protocol, icmp_type=kind)
    ports = chance.choice([49152, 22]), chance.choice([*PORTS, 100])
    flags = TcpFlags.SYN if protocol == TCP else TcpFlags.NONE
    return Packet(Family.IPV4, source, destination, protocol, *ports, flags)
