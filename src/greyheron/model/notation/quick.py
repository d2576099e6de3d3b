"""Extended entries in their usual form by one compiled pass (§11).

What it does not read, for whatever reason, is read word by word, which says what is wrong: where both give an
answer it is the same.
"""

import re
from functools import lru_cache

from greyheron.model.entry import Entry, IcmpMatch
from greyheron.model.names import ICMP_TYPES, TCP, WITH_PORTS
from greyheron.model.notation.clauses import read_protocol
from greyheron.model.notation.terms import read_address_term, read_ports
from greyheron.model.values import Action, Family

_MOST_WORDS = 16384
"""So many words are kept with what they mean, none of them long: the same ones stand in entry after entry."""
_address = lru_cache(_MOST_WORDS)(read_address_term)
_ports = lru_cache(_MOST_WORDS)(read_ports)
_protocol = lru_cache(_MOST_WORDS)(read_protocol)
_WORD = r"[^\s#]\S{0,79}"
_END = rf"(?:\s+from\s+({_WORD})(?:\s+port\s+({_WORD}))?)?(?:\s+to\s+({_WORD})(?:\s+port\s+({_WORD}))?)?"
_USUAL = re.compile(
    rf"\s*(?:([0-9]{{1,9}})\s+)?(?:(permit)|deny(\s+silently)?)\s+({_WORD})"
    rf"(?:\s+(?!(?:from|to|established|log)\s)([a-z][a-z-]+))?{_END}(\s+established)?(\s+log)?\s*(?:\s#(.*))?"
)
_ACTIONS = {True: Action.PERMIT, False: Action.DENY}


def read_usual(text: str, family: Family) -> Entry | None:
    """The entry on a line of an extended list; None where it is of another form, or wrong."""
    match = _USUAL.fullmatch(text)
    if match is None:
        return None
    number, permit, silently, protocol_word, icmp_word, source, own, destination, other, made, log, note = (
        match.groups()
    )
    icmp = None
    try:
        protocol = _protocol(protocol_word, family)
        if icmp_word is not None:
            icmp = IcmpMatch(*ICMP_TYPES[family][icmp_word])
        ends = [
            None if word is None or word == "any" else _address(word, family)
            for word in (source, destination)
        ]
        ports = [() if word is None else _ports(word) for word in (own, other)]
    except (ValueError, KeyError):
        return None
    if (
        (number is not None and int(number) == 0)
        or (icmp is not None and protocol != family.icmp)
        or ((own or other) is not None and protocol not in WITH_PORTS)
        or (made is not None and protocol != TCP)
    ):
        return None
    return Entry(
        int(number or 0),
        _ACTIONS[permit is not None],
        protocol,
        ends[0],
        ends[1],
        ports[0],
        ports[1],
        icmp,
        made is not None,
        log=log is not None,
        silent=silently is not None,
        note=(note.strip() or None) if note is not None else None,
    )
