"""Entries: one line each (2-semantics §11)."""

import re

from greyheron.model.entry import AddressTerm, Entry, IcmpMatch, PortTerm
from greyheron.model.names import ICMP_TYPES, PORTS, PROTOCOLS, TCP, WITH_PORTS, icmp_name, protocol_name
from greyheron.model.notation.line import NotationLine, Option
from greyheron.model.notation.terms import read_ports, read_term
from greyheron.model.values import Action, Family, ListKind

LARGEST_NUMBER = 2_147_483_647
_DIGITS = re.compile(r"[0-9]+")
_ICMP_NUMBERS = re.compile(r"([0-9]{1,3})(?:/([0-9]{1,3}))?")
_AFTER_PROTOCOL = {"from", "to", "established", "log"}


_PROTOCOL_WORDS = {
    "any": "every protocol",
    "tcp": "TCP, where ports can follow",
    "udp": "UDP, where ports can follow",
    "icmp": "the family's own ICMP, where a type can follow",
}
_NUMBER_OPTION = Option("10", "the entry's number; left out, the next free one", literal=False)
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


def read_entry(line: NotationLine, family: Family, kind: ListKind) -> Entry:
    """Read a whole entry. Its number is 0 when the line gives none. Raises LineError."""
    number = _read_number(line)
    action = Action(line.choose({"permit": "let matching packets pass", "deny": "stop matching packets"}))
    silent = action is Action.DENY and line.take("silently", "stop them without telling the sender")
    if kind is ListKind.STANDARD:
        line.take("from", "the source address, which is all that a standard list looks at")
        only_source = read_term(line, family)
        log = _read_log(line)
        line.end()
        return Entry(number, action, source=only_source, silent=silent, log=log, note=line.note)
    protocol = _read_protocol(line, family)
    icmp = _read_icmp(line, family) if protocol == family.icmp else None
    source: AddressTerm | None = None
    destination: AddressTerm | None = None
    source_ports: tuple[PortTerm, ...] = ()
    destination_ports: tuple[PortTerm, ...] = ()
    if line.take("from", "where packets come from"):
        source = read_term(line, family)
        source_ports = _read_ports(line, protocol)
    if line.take("to", "where packets go"):
        destination = read_term(line, family)
        destination_ports = _read_ports(line, protocol)
    established = protocol == TCP and line.take(
        "established", "only packets of a connection already made (ACK or RST is set)"
    )
    log = _read_log(line)
    line.end()
    return Entry(
        number, action, protocol, source, destination, source_ports, destination_ports,
        icmp, established, log, silent, line.note,
    )  # fmt: skip


def write_entry(entry: Entry, family: Family, kind: ListKind) -> str:
    """`entry` on one line, without its remarks."""
    words = [str(entry.number), entry.action.value]
    if entry.silent:
        words.append("silently")
    if kind is ListKind.STANDARD:
        words += ["from", str(entry.source or "any")]
    else:
        words.append("any" if entry.protocol is None else protocol_name(entry.protocol, family))
        if entry.icmp is not None:
            name = icmp_name(family, entry.icmp.type, entry.icmp.code)
            code = "" if entry.icmp.code is None else f"/{entry.icmp.code}"
            words.append(name or f"{entry.icmp.type}{code}")
        words += ["from", str(entry.source or "any"), *_write_ports(entry.source_ports)]
        words += ["to", str(entry.destination or "any"), *_write_ports(entry.destination_ports)]
        if entry.established:
            words.append("established")
    if entry.log:
        words.append("log")
    if entry.note:
        words.append(f"# {entry.note}")
    return " ".join(words)


def _write_ports(ports: tuple[PortTerm, ...]) -> list[str]:
    return ["port", ",".join(map(str, ports))] if ports else []


def _read_number(line: NotationLine) -> int:
    line.offer(_NUMBER_OPTION)
    if line.word is None or not _DIGITS.fullmatch(line.word):
        return 0
    if not 1 <= int(line.word[:12]) <= LARGEST_NUMBER:
        raise line.error(f"“{line.word}” is no entry number: 1 to {LARGEST_NUMBER} can stand here")
    number = int(line.word)
    line.at += 1
    return number


def _read_log(line: NotationLine) -> bool:
    return line.take("log", "write a log line for each packet that matches")


def _read_protocol(line: NotationLine, family: Family) -> int | None:
    line.offer(*_PROTOCOL_OPTIONS)

    def read(word: str) -> int | None:
        word = word.lower()
        if word == "any":
            return None
        if word == "icmp":
            return family.icmp
        if word in PROTOCOLS:
            return PROTOCOLS[word]
        if _DIGITS.fullmatch(word) and int(word) <= 255:
            return int(word)
        raise ValueError(f"“{word}” is no protocol: expected any, tcp, udp, icmp, another name, or 0 to 255")

    return line.value(read)


def _read_icmp(line: NotationLine, family: Family) -> IcmpMatch | None:
    names = ICMP_TYPES[family]
    line.offer(*_ICMP_OPTIONS[family])
    word = line.word
    if word is None or word.lower() in _AFTER_PROTOCOL:
        return None
    if word.lower() in names:
        line.at += 1
        return IcmpMatch(*names[word.lower()])
    match = _ICMP_NUMBERS.fullmatch(word)
    if match is None:
        raise line.error()
    type_, code = int(match[1]), None if match[2] is None else int(match[2])
    if max(type_, code or 0) > 255:
        raise line.error(f"“{word}” is out of range: ICMP types and codes end at 255")
    line.at += 1
    return IcmpMatch(type_, code)


def _read_ports(line: NotationLine, protocol: int | None) -> tuple[PortTerm, ...]:
    if protocol not in WITH_PORTS:
        if line.word == "port":
            raise line.error("ports belong to TCP and UDP: write tcp or udp as the protocol")
        return ()
    if not line.take("port", "the ports on this side; left out, every port"):
        return ()
    return line.value(read_ports, *_PORT_OPTIONS)
