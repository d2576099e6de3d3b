"""Entries that say what a requirement says: its sides and services in the notation of lists (§11)."""

from collections.abc import Iterable, Iterator

from greyheron.analysis.proof.endpoints import Endpoint, Endpoints
from greyheron.analysis.proof.services import ServiceSet, meant
from greyheron.core.intervals import Region, Spans, minus, span_union, tidied
from greyheron.core.lists.fields.services import ALL_PORTS, ALL_PROTOCOLS, Tag, whole
from greyheron.core.lists.resolved import Names
from greyheron.core.world import World
from greyheron.model.attachment import AttachmentPoint
from greyheron.model.changes import Change, putting
from greyheron.model.document import AccessList, Network, Placement, to_data
from greyheron.model.entry import Entry, PortSpan
from greyheron.model.header import NOTHING_SAID, HeaderTerms
from greyheron.model.names import icmp_name, protocol_name
from greyheron.model.notation.header_clauses import write_header_terms
from greyheron.model.notation.line import NotationError
from greyheron.model.notation.lists import read_body, renumbered, write_body
from greyheron.model.requirement import RequestedServices, Side, TermKind
from greyheron.model.values import Action, Family, ListKind


def side_terms(side: Side, spoken: Iterable[Endpoint], network: Network, endpoints: Endpoints) -> list[str]:
    """A side as the addresses of entries: by the names it is written with where lists know them.

    spoken:  whom of everyone in `endpoints` it speaks of
    """
    family = endpoints.family
    sets = {group.name for group in network.address_sets}
    devices = {device.name for device in network.devices}
    if any(term.kind is TermKind.ANY for term in side):
        return ["any"]
    if all(term.kind is TermKind.PREFIX or (term.name in sets | devices and not term.at) for term in side):
        words = [f"@{term.name}" if term.kind is TermKind.NAMED else term.name for term in side]
        return [word for word in words if word.startswith("@") or (":" in word) is (family is Family.IPV6)]
    region: Region = ()
    for endpoint in spoken:
        region = (*region, *minus(endpoint.region, region))
    return [str(block) for block in tidied(endpoints.filled(region))]


def service_terms(
    asks: RequestedServices, endpoints: Iterable[Endpoint], world: World, network: Network, family: Family
) -> list[tuple[str, str]]:
    """What is asked for as protocols of entries, each with the words for its destination's ports."""
    names = Names(network)
    asked: dict[Tag, list[tuple[int, int]]] = {}
    for device in dict.fromkeys(endpoint.device for endpoint in endpoints):
        for service in meant(asks, world.topology.devices[device], names, family):
            asked.setdefault(service.tag, []).extend(service.spans)
    found = {tag: span_union(spans) for tag, spans in asked.items()}
    if found in (whole(family), {Tag.FRAGMENT: ALL_PROTOCOLS}):
        return [("any", "")]
    return [term for tag, spans in found.items() for term in _service_terms(ServiceSet(tag, spans), family)]


def _service_terms(service: ServiceSet, family: Family) -> Iterator[tuple[str, str]]:
    if service.tag.with_ports:
        yield service.tag, "" if service.spans == ALL_PORTS else " port " + _ports(service.spans)
    elif service.tag is Tag.ICMP:
        if service.spans == ALL_PORTS:
            yield "icmp", ""
            return
        for low, high in service.spans:
            for kind in range(low >> 8, (high >> 8) + 1):
                whole_type = low <= kind << 8 and high >= (kind << 8 | 255)
                code = None if whole_type or kind == family.echo[0] else low & 255
                name = icmp_name(family, kind, code)
                yield f"icmp {name or (kind if code is None else f'{kind}/{code}')}", ""
    else:
        for low, high in service.spans:
            for number in range(low, high + 1):
                yield protocol_name(number, family), ""


def _ports(spans: Spans) -> str:
    return ",".join(str(PortSpan(low, high)) for low, high in spans)


def entry_lines(
    action: Action,
    kind: ListKind,
    sources: list[str],
    destinations: list[str],
    services: list[tuple[str, str]],
    header: HeaderTerms = NOTHING_SAID,
) -> list[str]:
    """Entries without numbers, the most telling form that `kind` has."""
    if kind is ListKind.STANDARD:
        return [f"{action} from {source}" for source in sources]
    return [
        " ".join([f"{action} {protocol} from {source} to {destination}{ports}", *write_header_terms(header)])
        for protocol, ports in services
        for source in sources
        for destination in destinations
    ]


def rewritten(access_list: AccessList, text: str) -> Change:
    """The change that gives a list other entries, as they are written."""
    item = {**to_data(access_list), "entries": text}
    return Change(collection="lists", key=access_list.name, item=item)


def on_top(access_list: AccessList, lines: Iterable[str], kind: ListKind) -> Change:
    """The change that puts entries of a kind before all others; a list becomes a full one for them."""
    full = access_list if access_list.kind is kind else as_extended(access_list)
    entries = access_list.body.entries
    return rewritten(full, with_entries(full, lines, entries[0].number if entries else None))


def placed_anew(
    name: str, family: Family, kind: ListKind, text: str, points: Iterable[AttachmentPoint]
) -> tuple[Change, ...]:
    """The changes that make a list and place it."""
    item = {"name": name, "family": family.value, "kind": kind.value, "entries": text}
    placed = (
        Placement(list=name, device=point.device, at=point.at, direction=point.direction) for point in points
    )
    made = Change(collection="lists", key=name, item=item)
    return (made, *(putting("placements", each) for each in placed))


def as_extended(access_list: AccessList) -> AccessList:
    """A source-only list as a full one that decides alike."""
    text = write_body(access_list.body, access_list.family, ListKind.EXTENDED)
    body = read_body(text, access_list.family, ListKind.EXTENDED)
    return access_list.model_copy(update={"kind": ListKind.EXTENDED, "body": body})


def holding(access_list: AccessList, entries: Iterable[Entry]) -> Change:
    """The change that leaves a list just these entries."""
    body = access_list.body.with_entries(entries)
    return rewritten(access_list, write_body(body, access_list.family, access_list.kind))


def with_entries(access_list: AccessList, lines: Iterable[str], before: int | None) -> str:
    """The text of a list with new entries before the one numbered `before`, or at its end."""
    text = write_body(access_list.body, access_list.family, access_list.kind).splitlines()
    at = len(text)
    for number, line in enumerate(text):
        if before is not None and line.split()[0] == str(before):
            at = number
            while at > 0 and text[at - 1].startswith("#"):
                at -= 1
            break
    found = "\n".join([*text[:at], *lines, *text[at:]])
    try:
        read_body(found, access_list.family, access_list.kind)
    except NotationError:  # no numbers are left there
        even = write_body(renumbered(access_list.body), access_list.family, access_list.kind).splitlines()
        spread = [*even[:at], *lines, *even[at:]]
        bare = [line if line.startswith("#") else line.lstrip("0123456789 ") for line in spread]
        return "\n".join(bare)
    return found
