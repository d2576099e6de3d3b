"""Entries of RFC 8519 as lines of the notation (§11)."""

from collections.abc import Mapping
from typing import Any

from greyheron.formats.yang.fields import Malformed, fields, prefix_of
from greyheron.model.header import TcpFlags
from greyheron.model.names import protocol_name
from greyheron.model.values import Family

_ACTIONS = {"accept": "permit", "drop": "deny silently", "reject": "deny"}
_FLAGS = tuple(flag.name.lower() for flag in TcpFlags if flag.name)
_READ = frozenset(("ipv4", "ipv6", "tcp", "udp", "icmp"))


def action_of(ace: Mapping[str, Any], here: str) -> str:
    """The action of an entry, as the notation has it. Raises Malformed."""
    told = fields(ace.get("actions", {}), here).get("forwarding")
    action = _ACTIONS.get(str(told).rpartition(":")[2])
    if action is None:
        raise Malformed(f"{here}: the action {told} is not known")
    return action


def entry_of(ace: Mapping[str, Any], family: str, where: str) -> str:
    """One entry, without its number. Raises Malformed."""
    name = ace.get("name")
    here = f"{where}, entry {name}"
    action = action_of(ace, here)
    matches, actions = fields(ace.get("matches", {}), here), fields(ace["actions"], here)
    strange = sorted(set(matches) - _READ) or sorted({"ipv4", "ipv6"} - {family} & set(matches) - {family})
    if strange and (strange[0] not in _READ or strange[0] in matches):
        raise Malformed(f"{here}: “{strange[0]}” cannot be said in a list of {family}")
    header = fields(matches.get(family, {}), here)
    known = {"protocol", "dscp", f"source-{family}-network", f"destination-{family}-network"}
    if set(header) - known:
        raise Malformed(f"{here}: “{min(set(header) - known)}” cannot be said")
    layer = next((each for each in ("tcp", "udp", "icmp") if each in matches), None)
    protocol = header.get("protocol", {"tcp": 6, "udp": 17}.get(layer or ""))
    words = [action, _protocol(protocol, family, here)]
    if layer == "icmp":
        words += _icmp(fields(matches["icmp"], here), here)
    ports = fields(matches[layer], here) if layer in ("tcp", "udp") else {}
    strange = sorted(set(ports) - {"source-port", "destination-port", *(["flags"] if layer == "tcp" else [])})
    if strange:
        raise Malformed(f"{here}: “{strange[0]}” cannot be said")
    for side, word in (("source", "from"), ("destination", "to")):
        network = header.get(f"{side}-{family}-network")
        words += [word, "any" if network is None else prefix_of(str(network), here)]
        if f"{side}-port" in ports:
            words += ["port", _port(fields(ports[f"{side}-port"], here), here)]
    if "flags" in ports:
        words += ["flags", _flags(ports["flags"], here)]
    if "dscp" in header:
        words += ["dscp", str(header["dscp"])]
    if str(actions.get("logging", "")).endswith("log-syslog"):
        words.append("log")
    return " ".join(words)


def _protocol(number: Any, family: str, here: str) -> str:
    if number is None:
        return "any"
    if not isinstance(number, int) or not 0 <= number <= 255:
        raise Malformed(f"{here}: {number} is no protocol")
    return protocol_name(number, Family(family))


def _icmp(told: Mapping[str, Any], here: str) -> list[str]:
    kind, code = told.get("type"), told.get("code")
    if (
        not isinstance(kind, int)
        or not (code is None or isinstance(code, int))
        or set(told) - {"type", "code"}
    ):
        raise Malformed(f"{here}: ICMP by anything but type and code cannot be said")
    return [str(kind) if code is None else f"{kind}/{code}"]


def _flags(told: Any, here: str) -> str:
    """All flags of a header: those that are named are set, all others clear."""
    names = told.split() if isinstance(told, str) else ["?"]
    if unknown := sorted(set(names) - set(_FLAGS)):
        raise Malformed(f"{here}: {unknown[0]} is no TCP flag")
    return ",".join(name if name in names else f"!{name}" for name in _FLAGS)


def _port(told: Mapping[str, Any], here: str) -> str:
    low, high, port = (told.get(key) for key in ("lower-port", "upper-port", "port"))
    if isinstance(low, int):
        return f"{low}-{high if isinstance(high, int) else 65535}"
    written = {"eq": "{}", "neq": "!={}", "gte": ">={}", "lte": "<={}"}.get(str(told.get("operator", "eq")))
    if written is None or not isinstance(port, int):
        raise Malformed(f"{here}: a port is written by an operator or a range")
    return written.format(port)
