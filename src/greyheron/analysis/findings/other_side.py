"""Entries that name an address as it is on the other side of a translation from where they stand (§4, §7)."""

from collections.abc import Iterator, Sequence
from functools import partial

from msgspec.structs import replace

from greyheron.analysis.advice.entries import holding
from greyheron.analysis.findings.finding import Finding, Repair, SearchGround, Severity, line_of
from greyheron.analysis.findings.wrong_direction import Ends, comes_by, ends_of
from greyheron.analysis.network.passing import Passers
from greyheron.analysis.network.translated import AsTranslated, as_translated, translations_of
from greyheron.analysis.proof.endpoints import Endpoints
from greyheron.core.lists.resolved import ResolvedList
from greyheron.model.attachment import AttachmentPoint
from greyheron.model.device import Translation
from greyheron.model.document import AccessList
from greyheron.model.entry import AddressBlock, Entry
from greyheron.model.values import Family


def naming_the_other_side(
    ground: SearchGround, family: Family, everyone: Endpoints, passers: Passers
) -> Iterator[Finding]:
    """Entries for addresses that do not come by, though they would as a translation shows them there."""
    translations = translations_of(ground.network, family)
    if not translations:
        return
    ends = ends_of(ground, family, everyone)
    lists = {each.name: each for each in ground.network.lists}
    for (point, which), found in ground.world.lists.items():
        if which is not family or point.is_line or not ground.share.has(found.name):
            continue
        access_list = lists[found.name]
        yield from ground.kept.of(
            ("other side", point, family, ground.world.resolved.active),
            (found, access_list, everyone),
            partial(_judged, point, access_list, found, passers, ends, translations),
        )


def _judged(
    point: AttachmentPoint,
    access_list: AccessList,
    found: ResolvedList,
    passers: Passers,
    ends: Ends,
    translations: Sequence[Translation],
) -> tuple[Finding, ...]:
    passing = passers(point)
    if passing is None or passing.nobody:
        return ()
    findings = []
    for rule in found.rules:
        every = list(as_translated(rule, translations))
        if not every or comes_by(rule, ends, passing):
            continue
        other = next((each for each in every if comes_by(each.rule, ends, passing)), None)
        if other is not None:
            findings.append(_finding(access_list, point, other))
    return tuple(findings)


def _finding(access_list: AccessList, point: AttachmentPoint, other: AsTranslated) -> Finding:
    number = other.rule.entry.number
    named, meant = (", ".join(map(str, blocks)) for blocks in (other.named, other.meant))
    mended = _mended(other)
    repair = None
    if mended is not None:
        entries = (mended if each.number == number else each for each in access_list.body.entries)
        repair = Repair(f"name {meant} in {access_list.name}", (holding(access_list, entries),))
    return Finding(
        "address of the other side",
        Severity.FAULT,
        f"{access_list.name} entry {number} {point.device} {point.at} {point.direction}",
        f"{access_list.name} entry {number} names {named}, which no packet has {point}: as it is translated, "
        f"they have {meant} there.",
        (line_of(access_list, number),),
        (point.device,),
        (access_list.name,),
        repair=repair,
    )


def _mended(other: AsTranslated) -> Entry | None:
    """The entry with the address of the other side; None where more than one word would have to change."""
    entry, translation = other.rule.entry, other.translation
    term = entry.source if other.of_source else entry.destination
    if len(other.meant) != 1 or not isinstance(term, AddressBlock):
        return None
    if translation.to_port not in (None, translation.port):
        return None
    (block,) = other.meant
    return replace(entry, source=block) if other.of_source else replace(entry, destination=block)
