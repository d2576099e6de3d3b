"""Names on real wires: queries, and what who serves names answers them, as bytes (RFC 1035)."""

from collections.abc import Iterable

from dns.exception import DNSException
from dns.message import from_wire, make_query, make_response
from dns.rcode import NXDOMAIN
from dns.rdatatype import AAAA, A, to_text
from dns.rrset import from_text

from greyheron.core.walk.dns import records_of
from greyheron.model.device import Device
from greyheron.model.item import family_of
from greyheron.model.values import Family

_KIND = {Family.IPV4: A, Family.IPV6: AAAA}
_KEPT = 300  # seconds


def query_for(name: str, family: Family) -> bytes:
    return bytes(make_query(name, _KIND[family]).to_wire())


def answer_of(device: Device, query: bytes) -> bytes | None:
    """What a device answers from its records (§13); None to what is no question for a name."""
    try:
        asked = from_wire(query)
    except DNSException:
        return None
    if not asked.question:
        return None
    answer = make_response(asked)
    (question, *_) = asked.question
    known = records_of(device, question.name.to_text(omit_final_dot=True))
    if known is None:
        answer.set_rcode(NXDOMAIN)
    held = [str(each) for each in known or () if _KIND[family_of(each)] == question.rdtype]
    if held:
        answer.answer.append(from_text(question.name, _KEPT, "IN", to_text(question.rdtype), *held))
    return bytes(answer.to_wire())


def addresses_in(answer: bytes) -> tuple[str, ...]:
    """The addresses in an answer, in order. Raises DNSException where it is none."""
    found: Iterable[str] = (str(each.address) for rrset in from_wire(answer).answer for each in rrset)
    return tuple(found)
