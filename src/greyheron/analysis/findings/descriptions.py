"""Findings in what notes and names say: an ICMP type that cannot do it, a list that stands the other way."""

import re
from collections.abc import Iterator

from greyheron.analysis.findings.finding import Finding, Severity, shortened
from greyheron.model.document import AccessList, Network
from greyheron.model.entry import Entry, IcmpMatch
from greyheron.model.names import ICMP_TYPES
from greyheron.model.notation.entries import write_entry
from greyheron.model.values import Direction

_TRACING = ("time-exceeded", "unreachable", "port-unreachable")
_SIZES = ("fragmentation-needed", "packet-too-big")
_ROUTERS = ("router-solicitation", "router-advertisement")
_NEIGHBOURS = ("neighbour-solicitation", "neighbour-advertisement")
_MEANT: dict[str, tuple[str, ...]] = {
    r"ping(s|ed|ing|able)?|echo(es)?|alive|liveness|heartbeats?": ("echo-request", "echo-reply"),
    r"trace[ -]?routes?|trac(e|es|ing)|tracepath": _TRACING,
    r"ttls?|hop[ -]?limits?|time[ -]exceeded|expired": ("time-exceeded",),
    r"p?mtus?|fragment\w*|too[ -]big|(large|big|oversized?) packets|packet sizes?": _SIZES,
    r"unreachables|(host|net|network|destination|port|address)[ -]unreachables?": ("unreachable",),
    r"redirect(s|ed|ing|ion)?": ("redirect",),
    r"neighbou?r[ -](discovery|solicitations?|advertisements?|cache)": (*_NEIGHBOURS, *_ROUTERS),
    r"router[ -](discovery|solicitations?|advertisements?)|autoconfiguration": _ROUTERS,
    r"timestamps?|clocks?": ("timestamp-request", "timestamp-reply"),
    r"parameter[ -]problems?|(bad|malformed) headers?": ("parameter-problem",),
    r"administratively|prohibited": ("prohibited",),
}
"""What notes can be about, and the ICMP messages (RFC 792, RFC 4443, RFC 4861) that have to do with it."""


def in_note(access_list: AccessList, entry: Entry) -> Iterator[Finding]:
    """An ICMP type that cannot do what its entry's note says."""
    if entry.icmp is None or access_list.family is None:
        return
    words = " ".join([entry.note or "", *entry.remarks])
    types = ICMP_TYPES[access_list.family]
    meant = [
        (found.group(), [name for name in names if name in types])
        for pattern, names in _MEANT.items()
        if (found := re.search(rf"\b({pattern})\b", words, re.IGNORECASE))
    ]
    if meant and not any(_covers(entry.icmp, *types[name]) for _, names in meant for name in names):
        said = meant[0][0]
        fitting = [name for _, names in meant for name in names]
        yield Finding(
            "ICMP type that does not fit its note",
            Severity.WARNING,
            f"{access_list.name} entry {entry.number}",
            f"{access_list.name} entry {entry.number} speaks of {said}, which its ICMP type has nothing "
            f"to do with"
            + (f": {shortened(fitting)} would." if fitting else f" in {access_list.family.word}."),
            (
                write_entry(entry, access_list.family, access_list.kind),
                *(f"# {each}" for each in entry.remarks),
            ),
            lists=(access_list.name,),
        )


def _covers(icmp: IcmpMatch, kind: int, code: int | None) -> bool:
    """Whether an entry matches some message of a type, or of a type and code."""
    return icmp.type == kind and (icmp.code is None or code in (None, icmp.code))


_WORDS = {
    Direction.IN: ("in", "inbound", "ingress", "incoming", "inward", "inwards"),
    Direction.OUT: ("out", "outbound", "egress", "outgoing", "outward", "outwards"),
}
_NO_DIRECTION = re.compile(
    r"in-house|built-in|(check|log|sign|opt|plug)[-_]?(in|out)|out-of-\w+|in-\w+-of", re.IGNORECASE
)
_PART = re.compile(r"[A-Z]?[a-z]+|[A-Z]+(?![a-z])")


def named_direction(name: str) -> Direction | None:
    """The direction that a list's name speaks of, if it is one: `lan-egress`, `in_from_x`, `webOutbound6`."""
    parts = {part.lower() for part in _PART.findall(_NO_DIRECTION.sub(" ", name))}
    long = (word for words in _WORDS.values() for word in words if len(word) > 5)
    parts |= {word for word in long if word in name.lower()}
    said = [direction for direction, words in _WORDS.items() if parts & set(words)]
    return said[0] if len(said) == 1 else None


def in_names(network: Network) -> Iterator[Finding]:
    """Lists that are called after one direction and stand in the other."""
    for placed in network.placements:
        said = named_direction(placed.list)
        if said is not None and placed.direction is not said:
            yield Finding(
                "name of another direction",
                Severity.WARNING,
                f"{placed.list} at {placed.device} {placed.at}",
                f"{placed.list} is named for the other direction: at {placed.device} "
                f"{placed.at} it is placed {placed.direction}bound.",
                devices=(placed.device,),
                lists=(placed.list,),
            )
