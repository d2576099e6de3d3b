"""What a test flow asks for, from the word it uses."""

from msgspec import Struct

from greyheron.model.device import Device
from greyheron.model.header import TcpFlags
from greyheron.model.names import PORTS, TCP, UDP, UDP_SERVICES
from greyheron.model.values import Family, LineKind

WHOLE_PROTOCOLS = ("tcp", "udp", "icmp")
OWN_SERVICES = "services"
"""The word for whatever each destination listens on."""
LINE_PORTS = {
    LineKind.REMOTE: (PORTS["ssh"], PORTS["telnet"]),
    LineKind.WEB: (PORTS["https"], PORTS["http"]),
}
KNOWN_SERVICES = frozenset({"any", "ping", OWN_SERVICES, *WHOLE_PROTOCOLS, *LINE_PORTS, *PORTS})
"""The words that a requirement knows in every network."""


class Request(Struct, frozen=True):
    """Protocol, and the destination port or the ICMP type and code where the protocol has them.

    flags:  of a single TCP packet; None: a conversation
    fragment:  a fragment that is not the first; it has no port and no type
    """

    protocol: int
    port: int | None = None
    icmp_type: int | None = None
    icmp_code: int | None = None
    flags: TcpFlags | None = None
    fragment: bool = False
    dscp: int = 0


def written(request: Request, family: Family) -> str:
    """A word that `requested` reads as `request`, whatever the destination."""
    if request.protocol in (TCP, UDP) and request.port is not None:
        return f"{'tcp' if request.protocol == TCP else 'udp'}/{request.port}"
    if request.protocol == family.icmp and request.icmp_type is not None:
        if request.icmp_type == family.echo[0]:
            return "ping"
        return f"icmp/{request.icmp_type}/{request.icmp_code or 0}"
    return f"protocol/{request.protocol}"


def requested(word: str, destination: Device | None, family: Family) -> Request | None:
    """What `word` asks of `destination`; None when it is no service that can be known.

    A service of the destination by that name comes first, then IANA names.
    """
    for service in destination.services if destination else ():
        if service.name == word:
            return Request(TCP if service.protocol == "tcp" else UDP, service.port)
    if word == "ping":
        return Request(family.icmp, icmp_type=family.echo[0], icmp_code=0)
    head, slash, rest = word.partition("/")
    if not slash:
        return Request(UDP if word in UDP_SERVICES else TCP, PORTS[word]) if word in PORTS else None
    if head in ("tcp", "udp"):
        port = PORTS[rest] if rest in PORTS else _number(rest, 65535)
        return None if port is None else Request(TCP if head == "tcp" else UDP, port)
    if head == "icmp":
        type_, _, code = rest.partition("/")
        kind, detail = _number(type_, 255), _number(code or "0", 255)
        return None if kind is None or detail is None else Request(family.icmp, None, kind, detail)
    protocol = _number(rest, 255) if head == "protocol" else None
    return None if protocol is None else Request(protocol)


def _number(text: str, most: int) -> int | None:
    """The number that `text` writes, if it is one up to `most`."""
    return int(text) if text.isascii() and text.isdigit() and len(text) < 6 and int(text) <= most else None
