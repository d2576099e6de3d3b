"""Test flows: `kiosk → ledger tcp/443 pass`, one a line."""

import re
from collections.abc import Iterable
from ipaddress import ip_address, ip_interface

from greyheron.model.flow import ExpectedFlow, Flow, FlowEnd
from greyheron.model.names import PORTS, PROTOCOLS
from greyheron.model.notation.header_clauses import DSCP_OPTIONS, read_code_point, read_flags, take_fragment
from greyheron.model.notation.line import LineError, NotationError, NotationLine, Option
from greyheron.model.notation.periods import take_moment
from greyheron.model.notation.terms import NAME, read_port
from greyheron.model.values import Expectation, Family

INTERFACE = re.compile(r"[A-Za-z][A-Za-z0-9._/-]{0,31}")
_SERVICE = re.compile(
    r"(tcp|udp)/(\S+)|icmp/([0-9]{1,3})(?:/([0-9]{1,3}))?|protocol/([0-9]{1,3})", re.IGNORECASE
)


def read_flow(
    line: NotationLine, devices: Iterable[str] = (), expectation: bool = True
) -> tuple[Flow, Expectation | None]:
    """Read a whole flow; its expectation too unless `expectation` is off. Raises LineError.

    devices: names to offer for completion; other names are read as well
    """
    names = [Option(name, "a device") for name in devices]
    address = Option("172.20.16.21", "an address", literal=False)
    possible = Option(
        "172.20.16.99/24", "a host that could be there, with its segment’s prefix", literal=False
    )
    source = line.value(
        _read_source,
        *names,
        Option("device:eth0", "a device, sending from that interface", literal=False),
        possible,
    )
    if not (line.take("→", "to") or line.take("->", "to")):
        raise line.error()
    destination = line.value(_read_destination, *names, address, possible)
    service = line.value(
        _read_service,
        Option("tcp/443", "a TCP port", literal=False),
        Option("udp/53", "a UDP port", literal=False),
        Option("ping", "an ICMP echo request and its reply"),
        *(Option(word, f"port {port}") for word, port in PORTS.items()),
    )
    port = None
    if line.take("source-port", "a source port other than 49152"):
        port = line.value(lambda word: read_port(word)[0], Option("1024", "a port number", literal=False))
    flags = None
    if line.take("flags", "a single TCP packet with these flags, instead of a conversation"):
        flags = line.value(
            read_flags, Option("fin,psh", "the flags that are set; none for none", literal=False)
        )
        if _is_no_tcp(service):
            raise line.error(f"{service} has no flags: only TCP has", line.at - 1)
    fragment = take_fragment(line, port is None and flags is None)
    dscp = line.value(read_code_point, *DSCP_OPTIONS) if line.take("dscp", "with this code point") else None
    at = take_moment(line)
    family = next(
        (family for family in Family if line.take(family, "in this family, though there is another")), None
    )
    flow = Flow(source, destination, service, port, flags, fragment, dscp, at, family)
    if not expectation:
        line.end()
        return flow, None
    expect = Expectation(
        line.choose({"pass": "it should get through, both ways", "block": "a list should stop it"})
    )
    line.end()
    return flow, expect


def read_expected_flow(text: str) -> ExpectedFlow:
    """A test flow with its expectation. Raises NotationError."""
    flow, expect = _whole(text, expectation=True)
    assert expect is not None
    return ExpectedFlow(flow, expect)


def read_bare_flow(text: str) -> Flow:
    """A test flow without an expectation. Raises NotationError."""
    return _whole(text, expectation=False)[0]


def _whole(text: str, expectation: bool) -> tuple[Flow, Expectation | None]:
    try:
        return read_flow(NotationLine(text), expectation=expectation)
    except LineError as error:
        raise NotationError([error.misreading]) from None


def write_flow(flow: Flow) -> str:
    words = [str(flow.source), "→", str(flow.destination), flow.service]
    if flow.source_port is not None:
        words += ["source-port", str(flow.source_port)]
    if flow.flags is not None:
        words += ["flags", ",".join(name.lower() for name in flow.flags.names) or "none"]
    words += ["fragment"] if flow.fragment else []
    words += [] if flow.dscp is None else ["dscp", str(flow.dscp)]
    words += [] if flow.at is None else ["at", str(flow.at)]
    words += [] if flow.family is None else [flow.family]
    return " ".join(words)


def write_expected_flow(expected: ExpectedFlow) -> str:
    return f"{write_flow(expected.flow)} {expected.expect.value}"


def _read_source(word: str) -> FlowEnd:
    end = _read_destination(word)
    if end.device is None and not end.possible:
        raise ValueError(
            f"“{word}” names no device: write device:{word} for the device that sends from it, "
            f"or {word}/24 for a host that could be on such a segment"
        )
    return end


def _read_destination(word: str) -> FlowEnd:
    if is_address(word):
        return FlowEnd(None, word)
    if is_address(word.partition("/")[0]):
        return FlowEnd(None, str(ip_interface(word)))
    device, colon, at = word.partition(":")
    if not NAME.fullmatch(device):
        raise ValueError(f"“{word}” is neither a device nor an address")
    if colon and not (INTERFACE.fullmatch(at) or is_address(at)):
        raise ValueError(f"“{at}” is neither an interface nor an address of {device}")
    return FlowEnd(device, at or None)


def _read_service(word: str) -> str:
    word = word.lower()
    match = _SERVICE.fullmatch(word)
    if match is None:
        if not NAME.fullmatch(word) or word in PROTOCOLS:
            raise ValueError(f"“{word}” is no service: expected tcp/PORT, udp/PORT, ping, or a service name")
        return word
    if match[2]:
        read_port(match[2])
    if any(number and int(number) > 255 for number in match.groups()[2:]):
        raise ValueError(f"“{word}” is out of range: protocols, ICMP types and codes end at 255")
    return word


def _is_no_tcp(service: str) -> bool:
    return service == "ping" or service.partition("/")[0] in ("udp", "icmp", "protocol")


def is_address(word: str) -> bool:
    try:
        ip_address(word)
    except ValueError:
        return False
    return True
