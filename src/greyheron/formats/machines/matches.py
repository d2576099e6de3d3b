"""Single matches of a packet filter's rules, read into conditions. What is not known here raises Unknown."""

from collections.abc import Callable, Iterator, Sequence
from fnmatch import fnmatchcase
from functools import lru_cache
from ipaddress import ip_address, ip_network
from itertools import product
from typing import Any

from greyheron.core.intervals import Spans, span_minus, span_union
from greyheron.formats.machines.conditions import ANYTHING, NO_INTERFACE, Conditions, both
from greyheron.model.entry import IcmpMatch
from greyheron.model.header import DSCP, FlagsMatch, TcpFlags
from greyheron.model.item import family_of
from greyheron.model.names import PROTOCOLS, TCP, UDP
from greyheron.model.values import Family

Resolve = Callable[[Any], list[Any]]
"""Finds the elements of a set by its name. Raises Unknown."""
_TCP_FLAGS = {"payload": {"protocol": "tcp", "field": "flags"}}
_STATES = frozenset({"new", "established", "related", "invalid", "untracked"})
_FAMILIES = {
    **dict.fromkeys(("ipv4", "ip", 2, 0x0800), Family.IPV4),
    **dict.fromkeys(("ipv6", "ip6", 10, 0x86DD), Family.IPV6),
}
_ICMP_TYPES = {
    Family.IPV4: {
        "echo-reply": 0, "destination-unreachable": 3, "source-quench": 4, "redirect": 5, "echo-request": 8,
        "router-advertisement": 9, "router-solicitation": 10, "time-exceeded": 11, "parameter-problem": 12,
        "timestamp-request": 13, "timestamp-reply": 14, "info-request": 15, "info-reply": 16,
        "address-mask-request": 17, "address-mask-reply": 18,
    },
    Family.IPV6: {
        "destination-unreachable": 1, "packet-too-big": 2, "time-exceeded": 3, "parameter-problem": 4,
        "echo-request": 128, "echo-reply": 129, "mld-listener-query": 130, "mld-listener-report": 131,
        "mld-listener-done": 132, "mld-listener-reduction": 132, "nd-router-solicit": 133,
        "nd-router-advert": 134, "nd-neighbor-solicit": 135, "nd-neighbor-advert": 136, "nd-redirect": 137,
        "router-renumbering": 138, "ind-neighbor-solicit": 141, "ind-neighbor-advert": 142,
        "mld2-listener-report": 143,
    },
}  # fmt: skip
_PROTOCOLS = {**PROTOCOLS, "icmpv6": 58, "dccp": 33, "udplite": 136, "comp": 108, "ip": 0, "hopopt": 0}
_ANY_PROTOCOL: Spans = ((0, 255),)
_ANY_PORT: Spans = ((0, 65535),)
_ANY_DSCP: Spans = ((0, 63),)


class Unknown(Exception):
    """Part of a rule that is not known here; says what."""


def alternatives(match: Any, resolve: Resolve, interfaces: Sequence[str]) -> list[Conditions]:
    """The conditions of a match, any one of which is enough. Raises Unknown."""
    if not isinstance(match, dict) or not {"op", "left", "right"} <= match.keys():
        raise Unknown(f"a match without operator or sides: {match}")
    op, left, right = match["op"], match["left"], match["right"]
    if left == _TCP_FLAGS:
        return _flags_themselves(op, right)
    if op in ("==", "in", "!="):
        return conditions_of(left, right, resolve, interfaces, negated=op == "!=")
    if op in ("<", ">", "<=", ">=") and isinstance(right, int):
        low, high = (0, right - (op == "<")) if op[0] == "<" else (right + (op == ">"), 1 << 128)
        return conditions_of(left, {"range": [low, high]}, resolve, interfaces)
    raise Unknown(f"the operator “{op}” is not known here")


def conditions_of(
    left: Any, right: Any, resolve: Resolve, interfaces: Sequence[str], negated: bool = False
) -> list[Conditions]:
    """What it takes for `left` to be `right`, any one of these. Raises Unknown."""
    if not isinstance(left, dict) or len(left) != 1:
        raise Unknown(f"“{left}” is not known here")
    ((kind, told),) = left.items()
    values = list(_elements(right, resolve))
    if kind == "concat":
        if negated or not isinstance(told, list):
            raise Unknown("a concatenation that must not be")
        found: list[Conditions] = []
        for value in values:
            parts = value.get("concat") if isinstance(value, dict) else None
            if not isinstance(parts, list) or len(parts) != len(told):
                raise Unknown(f"{value} for a concatenation")
            each = [conditions_of(*pair, resolve, interfaces) for pair in zip(told, parts, strict=True)]
            found += _joined(each)
        return found
    if kind == "&":
        return [_flags_under(told, right, negated)]
    if kind == "meta" and isinstance(told, dict):
        return [_of_packet(str(told.get("key")), values, interfaces, negated)]
    if kind == "ct" and isinstance(told, dict) and told.get("key") == "state" and "dir" not in told:
        states = frozenset(map(str, values))
        if not states <= _STATES:
            raise Unknown(f"the states {sorted(states)}")
        return [Conditions(states=_STATES - states if negated else states)]
    if kind == "payload" and isinstance(told, dict):
        return [_of_header(str(told.get("protocol")), str(told.get("field")), values, negated)]
    described = told.get("key", told) if isinstance(told, dict) else told
    raise Unknown(f"“{kind} {described}” is not known here")


def _joined(parts: Sequence[Sequence[Conditions]]) -> Iterator[Conditions]:
    for way in product(*parts):
        met: Conditions | None = ANYTHING
        for each in way:
            met = None if met is None else both(met, each)
        if met is not None:
            yield met


def _elements(right: Any, resolve: Resolve) -> Iterator[Any]:
    """The values in a right side: of a set each, of a named one too."""
    if isinstance(right, str) and right.startswith("@"):
        for each in resolve(right):
            yield from _elements(each, resolve)
    elif isinstance(right, dict) and isinstance(right.get("set"), list):
        for each in right["set"]:
            yield from _elements(each, resolve)
    elif isinstance(right, dict) and isinstance(right.get("elem"), dict):
        yield from _elements(right["elem"].get("val"), resolve)
    elif isinstance(right, list):
        yield from right
    else:
        yield right


def _of_packet(key: str, values: Sequence[Any], interfaces: Sequence[str], negated: bool) -> Conditions:
    if key in ("iifname", "oifname", "iif", "oif"):
        found = frozenset(name for name in interfaces if any(fnmatchcase(name, str(each)) for each in values))
        found = frozenset({*interfaces, NO_INTERFACE}) - found if negated else found
        if key.startswith("i"):
            return Conditions(arrives=found)
        return Conditions(leaves=found)
    if key in ("nfproto", "protocol"):
        families: set[Family | None] = {_FAMILIES.get(each) for each in values}
        if negated:
            families = {each for each in Family if each not in families}
        if len(families) == 1 and (family := families.pop()) is not None:
            return Conditions(family=family)
        if families == set(Family):
            return ANYTHING
        raise Unknown(f"“meta {key}” with {values}")
    if key == "l4proto":
        return Conditions(protocol=_spans(values, _protocol, _ANY_PROTOCOL, negated))
    raise Unknown(f"“meta {key}” is not known here")


def _of_header(header: str, field: str, values: Sequence[Any], negated: bool) -> Conditions:
    family = {"ip": Family.IPV4, "icmp": Family.IPV4, "ip6": Family.IPV6, "icmpv6": Family.IPV6}.get(header)
    if header in ("ip", "ip6") and family is not None:
        if field in ("saddr", "daddr"):
            spans = span_union(_addresses(each, family) for each in values)
            every: Spans = ((0, family.every_bit),)
            spans = span_minus(every, spans) if negated else spans
            return (
                Conditions(family=family, source=spans)
                if field == "saddr"
                else Conditions(family=family, destination=spans)
            )
        if field in ("protocol", "nexthdr"):
            return Conditions(family=family, protocol=_spans(values, _protocol, _ANY_PROTOCOL, negated))
        if field == "dscp":
            return Conditions(family=family, dscp=_spans(values, _code_point, _ANY_DSCP, negated))
    if header in ("tcp", "udp", "th") and field in ("sport", "dport"):
        protocol = {"tcp": ((TCP, TCP),), "udp": ((UDP, UDP),)}.get(header)
        ports = _spans(values, _port, _ANY_PORT, negated)
        if field == "sport":
            return Conditions(protocol=protocol, source_ports=ports)
        return Conditions(protocol=protocol, destination_ports=ports)
    if header in ("icmp", "icmpv6") and field == "type" and not negated and family is not None:
        kinds = frozenset(
            IcmpMatch(kind)
            for low, high in _spans(values, lambda each: _icmp_type(each, family), ((0, 255),), False)
            for kind in range(low, high + 1)
        )
        return Conditions(family=family, protocol=((family.icmp, family.icmp),), icmp=kinds)
    raise Unknown(f"“{header} {field}” is not known here" + (" where it must not be" if negated else ""))


def _flags_themselves(op: Any, right: Any) -> list[Conditions]:
    """`tcp flags …`: just these are set (`==`), or any of them (`in`)."""
    on = _flags(right)
    if op == "==":
        matches = [FlagsMatch(on, ~on)]
    elif op == "in":
        matches = [FlagsMatch(each, TcpFlags.NONE) for each in TcpFlags if each in on]
    else:
        raise Unknown(f"TCP flags with “{op}”")
    return [Conditions(protocol=((TCP, TCP),), flags=each) for each in matches]


def _flags_under(told: Any, right: Any, negated: bool) -> Conditions:
    """`tcp flags & (…) == …`: those under the mask are set just so."""
    if negated or not isinstance(told, list) or len(told) != 2 or told[0] != _TCP_FLAGS:
        raise Unknown("a mask on anything but TCP flags")
    mask, on = _flags(told[1]), _flags(right)
    if on & ~mask:
        raise Unknown("TCP flags that are not under their mask")
    return Conditions(protocol=((TCP, TCP),), flags=FlagsMatch(on, mask & ~on))


def _flags(value: Any) -> TcpFlags:
    if isinstance(value, dict) and isinstance(value.get("|"), list):
        value = value["|"]
    found = TcpFlags.NONE
    for each in value if isinstance(value, list) else [value]:
        if isinstance(each, list | dict):
            found |= _flags(each)
        elif isinstance(each, int) and 0 <= each < 256:
            found |= TcpFlags(each)
        elif isinstance(each, str) and each.upper() in TcpFlags.__members__:
            found |= TcpFlags[each.upper()]
        else:
            raise Unknown(f"the TCP flag {each}")
    return found


def _spans(values: Sequence[Any], read: Callable[[Any], int], every: Spans, negated: bool) -> Spans:
    ranges = []
    for value in values:
        if isinstance(value, dict) and isinstance(value.get("range"), list) and len(value["range"]) == 2:
            low, high = (each if isinstance(each, int) else read(each) for each in value["range"])
            ranges.append((low, min(high, every[0][1])))
        else:
            ranges.append((read(value), read(value)))
    found = span_union(each for each in ranges if each[0] <= each[1])
    return span_minus(every, found) if negated else found


def _addresses(value: Any, family: Family) -> tuple[int, int]:
    try:
        if isinstance(value, str):
            return _block(value, family)
        if isinstance(value, dict) and isinstance(value.get("prefix"), dict):
            prefix = value["prefix"]
            return _block(f"{prefix.get('addr')}/{prefix.get('len')}", family)
        if isinstance(value, dict) and isinstance(value.get("range"), list) and len(value["range"]) == 2:
            low, high = map(ip_address, map(str, value["range"]))
            if family_of(low) is family_of(high) is family and int(low) <= int(high):
                return int(low), int(high)
    except ValueError:
        pass
    raise Unknown(f"the address {value}")


@lru_cache(maxsize=65536)
def _block(text: str, family: Family) -> tuple[int, int]:
    """The first and last address of a prefix, or of one address. Raises ValueError."""
    network = ip_network(text, strict=False)
    if family_of(network) is not family:
        raise ValueError(f"{text} is of another family")
    return int(network.network_address), int(network.broadcast_address)


def _protocol(value: Any) -> int:
    if isinstance(value, int) and 0 <= value <= 255:
        return value
    if isinstance(value, str) and value in _PROTOCOLS:
        return _PROTOCOLS[value]
    raise Unknown(f"the protocol {value}")


def _port(value: Any) -> int:
    if isinstance(value, int) and 0 <= value <= 65535:
        return value
    raise Unknown(f"the port {value}")


def _code_point(value: Any) -> int:
    if isinstance(value, int) and 0 <= value <= 63:
        return value
    if isinstance(value, str) and value in DSCP:
        return DSCP[value]
    raise Unknown(f"the code point {value}")


def _icmp_type(value: Any, family: Family) -> int:
    if isinstance(value, int) and 0 <= value <= 255:
        return value
    if isinstance(value, str) and value in _ICMP_TYPES[family]:
        return _ICMP_TYPES[family][value]
    raise Unknown(f"the ICMP type {value}")
