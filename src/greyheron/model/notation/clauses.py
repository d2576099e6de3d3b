"""The fields of an entry as they are written and read, one clause each, in the order of a line (§11)."""

import re
from collections.abc import Callable, Iterable
from typing import Any, Final

from msgspec import Struct

from greyheron.model.entry import Entry, IcmpMatch, PortTerm
from greyheron.model.names import ICMP_TYPES, PORTS, PROTOCOLS, TCP, WITH_PORTS, icmp_name, protocol_name
from greyheron.model.notation.header_clauses import (
    DSCP_OPTIONS,
    DSCP_WORDS,
    FLAGS_OPTIONS,
    FLAGS_WORDS,
    read_dscp,
    read_flags_match,
    take_fragment,
)
from greyheron.model.notation.line import NotationLine, Option
from greyheron.model.notation.terms import read_ports, read_term
from greyheron.model.values import Family

Given = dict[str, Any]
"""What has been read of an entry so far, by the names of its fields."""


class Clause(Struct, frozen=True):
    """One field of an extended entry in the notation.

    read:  takes its words, offers what could stand there, and puts down what they mean. Raises LineError
    write:  the words that `read` reads as the entry's; none where it says nothing
    """

    read: Callable[[NotationLine, Given, Family], None]
    write: Callable[[Entry, Family], Iterable[str]]


_DIGITS = re.compile(r"[0-9]+")
_ICMP_NUMBERS = re.compile(r"([0-9]{1,3})(?:/([0-9]{1,3}))?")
_AFTER_PROTOCOL = {"from", "to", "established", "flags", "fragment", "dscp", "during", "log"}

_PROTOCOL_WORDS = {
    "any": "every protocol",
    "tcp": "TCP, where ports can follow",
    "udp": "UDP, where ports can follow",
    "icmp": "the family's own ICMP, where a type can follow",
}
_PROTOCOL_OPTIONS = (
    *(Option(word, text) for word, text in _PROTOCOL_WORDS.items()),
    *(
        Option(word, f"protocol {number}")
        for word, number in PROTOCOLS.items()
        if word not in _PROTOCOL_WORDS
    ),
    Option("0-255", "a protocol number", literal=False),
)
_ICMP_OPTIONS = {
    family: (
        *(
            Option(name, f"type {type_}" + ("" if code is None else f", code {code}"))
            for name, (type_, code) in names.items()
        ),
        Option("type/code", "an ICMP type, or type and code, as numbers", literal=False),
    )
    for family, names in ICMP_TYPES.items()
}
_PORT_OPTIONS = (
    *(Option(word, f"port {port}") for word, port in PORTS.items()),
    Option(">=1024", "this port and above", literal=False),
    Option("80,443", "several ports", literal=False),
    Option("8000-8080", "a range", literal=False),
    Option("!=80", "every port but one", literal=False),
    Option("@", "a port set by name", literal=False),
)


def _read_protocol(line: NotationLine, given: Given, family: Family) -> None:
    line.offer(*_PROTOCOL_OPTIONS)
    given["protocol"] = line.value(lambda word: read_protocol(word, family))


def read_protocol(word: str, family: Family) -> int | None:
    """A protocol by name or number; None for any. Raises ValueError with a sentence."""
    word = word.lower()
    if word == "any":
        return None
    if word == "icmp":
        return family.icmp
    if word in PROTOCOLS:
        return PROTOCOLS[word]
    if _DIGITS.fullmatch(word) and int(word) <= 255:
        return int(word)
    if word.lower() == "ping":
        raise ValueError("what ping sends is icmp echo-request: write that")
    raise ValueError(f"“{word}” is no protocol: expected any, tcp, udp, icmp, another name, or 0 to 255")


def _write_protocol(entry: Entry, family: Family) -> Iterable[str]:
    yield "any" if entry.protocol is None else protocol_name(entry.protocol, family)


def _read_icmp(line: NotationLine, given: Given, family: Family) -> None:
    if given["protocol"] != family.icmp:
        return
    names = ICMP_TYPES[family]
    line.offer(*_ICMP_OPTIONS[family])
    word = line.word
    if word is None or word.lower() in _AFTER_PROTOCOL:
        return
    if word.lower() in names:
        line.at += 1
        given["icmp"] = IcmpMatch(*names[word.lower()])
        return
    match = _ICMP_NUMBERS.fullmatch(word)
    if match is None:
        raise line.error()
    type_, code = int(match[1]), None if match[2] is None else int(match[2])
    if max(type_, code or 0) > 255:
        raise line.error(f"“{word}” is out of range: ICMP types and codes end at 255")
    line.at += 1
    given["icmp"] = IcmpMatch(type_, code)


def _write_icmp(entry: Entry, family: Family) -> Iterable[str]:
    if entry.icmp is not None:
        code = "" if entry.icmp.code is None else f"/{entry.icmp.code}"
        yield icmp_name(family, entry.icmp.type, entry.icmp.code) or f"{entry.icmp.type}{code}"


def _read_source(line: NotationLine, given: Given, family: Family) -> None:
    if line.take("from", "where packets come from"):
        given["source"] = read_term(line, family)


def _read_destination(line: NotationLine, given: Given, family: Family) -> None:
    if line.take("to", "where packets go"):
        given["destination"] = read_term(line, family)


def _read_source_ports(line: NotationLine, given: Given, _family: Family) -> None:
    if "source" in given:
        given["source_ports"] = _read_ports(line, given["protocol"])


def _read_destination_ports(line: NotationLine, given: Given, _family: Family) -> None:
    if "destination" in given:
        given["destination_ports"] = _read_ports(line, given["protocol"])


def _read_ports(line: NotationLine, protocol: int | None) -> tuple[PortTerm, ...]:
    if protocol not in WITH_PORTS:
        if line.word == "port":
            raise line.error("ports belong to TCP and UDP: write tcp or udp as the protocol")
        return ()
    if not line.take("port", "the ports on this side; left out, every port"):
        return ()
    return line.value(read_ports, *_PORT_OPTIONS)


def _write_ports(ports: tuple[PortTerm, ...]) -> Iterable[str]:
    return ("port", ",".join(map(str, ports))) if ports else ()


def _read_established(line: NotationLine, given: Given, _family: Family) -> None:
    if given["protocol"] == TCP:
        words = "only packets of a connection already made (ACK or RST is set)"
        given["established"] = line.take("established", words)


def _read_flags(line: NotationLine, given: Given, _family: Family) -> None:
    if given["protocol"] == TCP and line.take("flags", FLAGS_WORDS):
        given["flags"] = line.value(read_flags_match, *FLAGS_OPTIONS)


def _read_fragment(line: NotationLine, given: Given, _family: Family) -> None:
    lacking = ("source_ports", "destination_ports", "icmp", "established", "flags")
    given["fragment"] = take_fragment(line, not any(given.get(field) for field in lacking))


def _read_dscp(line: NotationLine, given: Given, _family: Family) -> None:
    if line.take("dscp", DSCP_WORDS):
        given["dscp"] = line.value(read_dscp, *DSCP_OPTIONS)


PROTOCOL: Final = Clause(_read_protocol, _write_protocol)
ICMP: Final = Clause(_read_icmp, _write_icmp)
SOURCE: Final = Clause(_read_source, lambda entry, _: ("from", str(entry.source or "any")))
SOURCE_PORTS: Final = Clause(_read_source_ports, lambda entry, _: _write_ports(entry.source_ports))
DESTINATION: Final = Clause(_read_destination, lambda entry, _: ("to", str(entry.destination or "any")))
DESTINATION_PORTS: Final = Clause(
    _read_destination_ports, lambda entry, _: _write_ports(entry.destination_ports)
)
ESTABLISHED: Final = Clause(_read_established, lambda entry, _: ("established",) if entry.established else ())

FLAGS: Final = Clause(_read_flags, lambda entry, _: ("flags", str(entry.flags)) if entry.flags else ())
FRAGMENT: Final = Clause(_read_fragment, lambda entry, _: ("fragment",) if entry.fragment else ())
DSCP: Final = Clause(
    _read_dscp, lambda entry, _: ("dscp", ",".join(map(str, entry.dscp))) if entry.dscp else ()
)

CLAUSES: Final = (
    PROTOCOL,
    ICMP,
    SOURCE,
    SOURCE_PORTS,
    DESTINATION,
    DESTINATION_PORTS,
    ESTABLISHED,
    FLAGS,
    FRAGMENT,
    DSCP,
)
"""In the order in which they stand in a line."""
