"""Requirements: `only wardens-desk → routers remote`, one a line."""

from collections.abc import Iterable
from ipaddress import ip_network

from msgspec import structs

from greyheron.model.names import PORTS, PROTOCOLS, TCP
from greyheron.model.notation.flows import INTERFACE, is_address
from greyheron.model.notation.header_clauses import read_header_terms, write_header_terms
from greyheron.model.notation.line import LineError, NotationError, NotationLine, Option
from greyheron.model.notation.periods import take_during
from greyheron.model.notation.terms import NAME, read_ports
from greyheron.model.requirement import WITH_DEVICES, RequirementKind, Side, Statement, Term, TermKind
from greyheron.model.values import Family

KINDS = {
    "allow": "all of it must get through, both ways",
    "block": "none of it may get through",
    "only": "all from these must get through, and nothing from anyone else",
}


def read_statement(line: NotationLine, names: Iterable[Option] = ()) -> Statement:
    """Read a whole requirement. Raises LineError.

    names:  devices and address sets to offer for completion; other names are read as well
    """
    kind = RequirementKind(line.choose(KINDS))
    sides = [
        Option("any", "everyone, drawn or possible"),
        *names,
        Option("172.20.16.0/24", "everyone with an address in a prefix", literal=False),
        Option("segment:device:eth0", "everyone on the segment of an interface", literal=False),
        Option("zone:device:inner", "everyone in a firewall’s zone", literal=False),
        Option("routers", "every address of every router"),
        Option("hosts", "every address of every host that is drawn"),
        Option(f"any{WITH_DEVICES}", "everyone, and the routers and firewalls among them too"),
    ]
    sources = line.value(_read_side, *sides)
    if not (line.take("→", "to") or line.take("->", "to")):
        raise line.error()
    destinations = line.value(_read_side, *sides)
    services = line.value(
        _read_services,
        Option("any", "every protocol, port and ICMP type"),
        Option("remote", "logins on the remote line’s ports: ssh and telnet"),
        Option("web", "the service of that name, else the web line’s ports: https and http"),
        Option("services", "whatever each destination listens on"),
        Option("tcp/443", "a TCP port", literal=False),
        Option("tcp/1-1023", "TCP ports", literal=False),
        Option("udp", "every UDP port"),
        Option("ping", "ICMP echo"),
        *(Option(word, f"port {port}") for word, port in PORTS.items()),
    )
    header = read_header_terms(line, TCP, bare=all(map(_speaks_of_protocols, services)))
    if header.flags is not None and not all(_speaks_of_tcp(word) for word in services):
        raise line.error("only TCP has flags: write tcp, tcp/PORTS or any as the service", line.at - 1)
    during = take_during(line)
    family = next((family for family in Family if line.take(family, "in this family only")), None)
    line.end()
    return Statement(kind, sources, destinations, services, family, header, during)


def read_requirement(text: str) -> Statement:
    """A requirement. Raises NotationError."""
    try:
        return read_statement(NotationLine(text))
    except LineError as error:
        raise NotationError([error.misreading]) from None


def write_requirement(statement: Statement) -> str:
    sides = (",".join(map(str, side)) for side in (statement.sources, statement.destinations))
    words = [statement.kind, " → ".join(sides), ",".join(statement.services)]
    words += write_header_terms(statement.header)
    words += [] if statement.during is None else ["during", str(statement.during)]
    words += [] if statement.family is None else [statement.family]
    return " ".join(words)


def _speaks_of_protocols(word: str) -> bool:
    return word in ("any", "tcp", "udp", "icmp") or word.startswith("protocol/")


def _speaks_of_tcp(word: str) -> bool:
    return word != "ping" and word.partition("/")[0] not in ("udp", "icmp", "protocol")


def _read_side(word: str) -> Side:
    return tuple(_read_term(part) for part in word.split(","))


def _read_term(word: str) -> Term:
    bare = word.removesuffix(WITH_DEVICES)
    if bare != word:
        term = _read_term(bare)
        if term.kind is TermKind.INTERFACE:
            raise ValueError(f"“{bare}” is a device’s own already: leave out {WITH_DEVICES}")
        return structs.replace(term, devices=True)
    if word.lower() == "any":
        return Term(TermKind.ANY)
    if is_address(word.partition("/")[0]):
        return Term(TermKind.PREFIX, _prefix(word))
    head, *rest = word.removeprefix("@").split(":", 1)
    if head in (TermKind.SEGMENT, TermKind.ZONE) and rest and not word.startswith("@"):
        return _within(TermKind(head), rest[0])
    if not NAME.fullmatch(head):
        raise ValueError(f"“{word}” is neither a name nor a prefix")
    if not rest:
        return Term(TermKind.NAMED, head)
    if not INTERFACE.fullmatch(rest[0]):
        raise ValueError(f"“{rest[0]}” is no interface of {head}")
    return Term(TermKind.INTERFACE, head, rest[0])


def _within(kind: TermKind, place: str) -> Term:
    """What stands behind `segment:` or `zone:`."""
    if kind is TermKind.SEGMENT and is_address(place.partition("/")[0]):
        return Term(kind, _prefix(place))
    device, colon, at = place.partition(":")
    if not (NAME.fullmatch(device) and colon and INTERFACE.fullmatch(at)):
        example = "device:interface, or the segment’s prefix" if kind is TermKind.SEGMENT else "firewall:zone"
        raise ValueError(f"“{kind}:{place}” names no {kind}: write {kind}: and {example}")
    return Term(kind, device, at)


def _prefix(word: str) -> str:
    try:
        return str(ip_network(word))
    except ValueError as error:
        raise ValueError(f"“{word}” is no prefix: {error}") from None


def _read_services(word: str) -> tuple[str, ...]:
    """Words between commas; a bare port goes on with the protocol before it."""
    found: list[str] = []
    for part in word.lower().split(","):
        before = found[-1].partition("/") if found else ("", "", "")
        if before[0] in ("tcp", "udp") and before[1] and part[:1] in "0123456789<>!":
            found[-1] += f",{part}"
            read_ports(found[-1].partition("/")[2])
        else:
            found.append(_read_service(part))
    return tuple(found)


def _read_service(word: str) -> str:
    head, slash, rest = word.partition("/")
    if not slash:
        whole = word in ("tcp", "udp", "icmp")
        if whole or (NAME.fullmatch(word) and word not in PROTOCOLS):
            return word
        raise ValueError(f"“{word}” is no service: expected any, tcp/PORTS, udp, ping, or a service name")
    if head in ("tcp", "udp"):
        read_ports(rest)
        return word
    numbers = rest.split("/")
    most = {"icmp": 2, "protocol": 1}.get(head, 0)
    if len(numbers) > most or not all(each.isdigit() and int(each) <= 255 for each in numbers):
        raise ValueError(f"“{word}” is no service: expected icmp/TYPE, icmp/TYPE/CODE or protocol/NUMBER")
    return word
