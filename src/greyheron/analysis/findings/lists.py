"""Findings in lists by themselves: their entries, names and notes."""

from collections.abc import Iterable, Iterator, Mapping
from functools import partial
from operator import attrgetter
from typing import Any

import numpy as np
from msgspec import Struct
from msgspec.structs import replace

from greyheron.analysis.advice.entries import holding, rewritten
from greyheron.analysis.entries.ineffective import Ineffective, ineffective_entries
from greyheron.analysis.findings.address_coverage import KnownAddresses, in_addresses
from greyheron.analysis.findings.descriptions import in_note
from greyheron.analysis.findings.finding import (
    Finding,
    Repair,
    SearchGround,
    Severity,
    line_of,
    shortened,
    text_of,
)
from greyheron.analysis.findings.finding_cache import KeptFindings
from greyheron.analysis.findings.frame_lists import in_frame_list
from greyheron.analysis.findings.repairs import taking_out
from greyheron.core.headers import Ints, grouped
from greyheron.core.lists.resolved import Names, ResolvedList, resolve
from greyheron.core.progress import Progress, part
from greyheron.model.document import AccessList, Network
from greyheron.model.entry import Entry
from greyheron.model.notation.entries import write_entry
from greyheron.model.values import Action, ListKind

_SAYS = attrgetter(*(name for name in Entry.__struct_fields__ if name not in ("number", "note", "remarks")))
_LIKE = 0.6
"""Lists of which so much is the same are thought to be meant as one."""


class _Said(Struct, frozen=True):
    """What a list says, whatever the numbers, the order and the notes of its entries.

    hashes:  one for each, to see quickly which lists have much in common
    """

    entries: frozenset[tuple[Any, ...]]
    hashes: Ints


def in_lists(ground: SearchGround) -> Iterator[Finding]:
    """In lists by themselves, once whatever the time; one share has what is said of several together."""
    network, names, kept = ground.network, Names(ground.network), ground.kept
    placed = {placement.list for placement in network.placements}
    known = {found.name: found for found in ground.world.lists.values()}
    held = kept.of("addresses", (network.devices,), lambda: KnownAddresses(network))
    for number, access_list in enumerate(network.lists):
        if not ground.share.has(access_list.name):
            continue
        ground.progress(number / len(network.lists))
        if access_list.name not in placed:
            yield _nowhere(access_list)
        elif not access_list.body.entries:
            yield Finding(
                "empty list",
                Severity.FAULT,
                access_list.name,
                f"{access_list.name} is placed and has no entries: it denies everything.",
                lists=(access_list.name,),
            )
        if access_list.body.periods:
            resolved = resolve(access_list, names) if access_list.family is not None else None
            ineffective = _at_all_times(ground, access_list, names) if resolved else ()
            yield from _in_list(access_list, resolved, ineffective, held)
            continue
        rests_on = (access_list, network.devices, network.address_sets, network.port_sets)
        yield from kept.of(
            ("list", access_list.name),
            rests_on,
            partial(
                _in_list_always,
                access_list,
                known.get(access_list.name),
                names,
                held,
                part(ground.progress, number, len(network.lists)),
            ),
        )
    if ground.share.number == 0:
        yield from _drifting(network, kept)


def _in_list_always(
    access_list: AccessList,
    known: ResolvedList | None,
    names: Names,
    held: KnownAddresses,
    progress: Progress,
) -> tuple[Finding, ...]:
    """What is to be found in a list whose entries are there at all times."""
    if access_list.family is None:
        return tuple(_in_list(access_list, None, (), held))
    resolved = known or resolve(access_list, names)
    return tuple(_in_list(access_list, resolved, ineffective_entries(resolved, progress), held))


def _in_list(
    access_list: AccessList,
    resolved: ResolvedList | None,
    ineffective: Iterable[Ineffective],
    held: KnownAddresses,
) -> Iterator[Finding]:
    """What is to be found in a list by itself, wherever it stands; `resolved` is None for one of frames."""
    if access_list.body.entries and all(entry.action is Action.DENY for entry in access_list.body.entries):
        yield _only_denies(access_list)
    if resolved is None:
        yield from in_frame_list(access_list)
        return
    yield from _doing_nothing(access_list, ineffective)
    for rule in resolved.rules:
        yield from in_note(access_list, rule.entry)
    yield from in_addresses(access_list, resolved, held)


def _at_all_times(ground: SearchGround, access_list: AccessList, names: Names) -> tuple[Ineffective, ...]:
    """The entries that have nothing to do whenever they are there."""
    spans = ground.timeline.spans
    found = [
        {
            each.number: each
            for each in ineffective_entries(resolve(access_list, names, span.active), ground.progress)
        }
        for span in spans
    ]
    every: list[Ineffective] = []
    for entry in access_list.body.entries:
        there = [
            at.get(entry.number) for span, at in zip(spans, found, strict=True) if entry.there(span.active)
        ]
        if there and None not in there:
            every += [each for each in there[:1] if each is not None]
    return tuple(every)


def _nowhere(access_list: AccessList) -> Finding:
    return Finding(
        "placed nowhere",
        Severity.WARNING,
        access_list.name,
        f"{access_list.name} is not placed: it does nothing.",
        lists=(access_list.name,),
    )


def _only_denies(access_list: AccessList) -> Finding:
    everything = {
        ListKind.STANDARD: "permit from any",
        ListKind.EXTENDED: "permit any from any to any",
        ListKind.FRAME: "permit any",
    }[access_list.kind]
    change = rewritten(access_list, text_of(access_list) + everything)
    return Finding(
        "list of denies only",
        Severity.FAULT,
        access_list.name,
        f"{access_list.name} has only deny entries: with the implicit deny at its end, nothing gets through.",
        (f"its last entry: {line_of(access_list, access_list.body.entries[-1].number)}",),
        lists=(access_list.name,),
        repair=Repair(f"permit the rest at the end of {access_list.name}", (change,)),
    )


def _doing_nothing(access_list: AccessList, ineffective: Iterable[Ineffective]) -> Iterator[Finding]:
    ineffective = tuple(ineffective)
    hidden = [entry for entry in ineffective if not entry.matched]
    opposite = [entry for entry in hidden if entry.opposite]
    never = [entry for entry in hidden if not entry.opposite]
    redundant = [entry for entry in ineffective if entry.matched]
    if opposite:
        first = opposite[0]
        many = f" and {len(opposite) - 1} more" if len(opposite) > 1 else ""
        yield Finding(
            "general before specific",
            Severity.FAULT,
            access_list.name,
            f"In {access_list.name}, entry {first.number}{many} never matches: "
            f"entry {shortened(map(str, first.by))} before it takes all its packets and does the opposite.",
            _pairs(access_list, opposite),
            lists=(access_list.name,),
            repair=_moved_up(access_list, opposite),
        )
    if never:
        first = never[0]
        many = f" and {len(never) - 1} more" if len(never) > 1 else ""
        several = f"entries {shortened(map(str, first.by))} together take"
        by = several if len(first.by) > 1 else f"entry {first.by[0]} takes"
        yield Finding(
            "entry that never matches",
            Severity.WARNING,
            access_list.name,
            f"In {access_list.name}, entry {first.number}{many} never matches: {by} all of "
            "its packets first.",
            _pairs(access_list, never),
            lists=(access_list.name,),
            repair=taking_out(access_list, [entry.number for entry in never]),
        )
    if redundant:
        first = redundant[0]
        many = f" and {len(redundant) - 1} more" if len(redundant) > 1 else ""
        yield Finding(
            "entry that changes nothing",
            Severity.NOTE,
            access_list.name,
            f"In {access_list.name}, entry {first.number}{many} changes nothing: "
            f"entry {shortened(map(str, first.by))} would do the same.",
            _pairs(access_list, redundant),
            lists=(access_list.name,),
            repair=taking_out(access_list, [first.number]),  # without it another may be needed
        )


def _pairs(access_list: AccessList, ineffective: Iterable[Ineffective]) -> tuple[str, ...]:
    return tuple(
        f"{line_of(access_list, each.number)}: "
        f"{'; '.join(line_of(access_list, number) for number in each.by[:3])}"
        for each in list(ineffective)[:12]
    )


def _moved_up(access_list: AccessList, ineffective: Iterable[Ineffective]) -> Repair:
    """Specific entries before the general ones that hide them."""
    entries = list(access_list.body.entries)
    for each in ineffective:
        at = next(index for index, entry in enumerate(entries) if entry.number == each.number)
        moved = entries.pop(at)
        goal = next(index for index, entry in enumerate(entries) if entry.number in each.by)
        entries.insert(goal, moved)
    even = (replace(entry, number=10 * index) for index, entry in enumerate(entries, 1))
    return Repair(f"move the hidden entries of {access_list.name} up", (holding(access_list, even),))


def _drifting(network: Network, kept: KeptFindings) -> Iterator[Finding]:
    """Lists that are nearly the same, though not quite."""
    said = {
        each.name: kept.of(("said", each.name), (each,), partial(_said, each))
        for each in network.lists
        if len(each.body.entries) >= 3
    }
    for one, other in _nearly_alike(said):
        mine, its = said[one].entries, said[other].entries
        alike, every = len(mine & its), len(mine | its)
        if not _LIKE * every <= alike < every:
            continue
        lists = {each.name: each for each in network.lists if each.name in (one, other)}
        evidence = [
            f"only in {name}: {line}"
            for name, missing in ((one, mine - its), (other, its - mine))
            for line in sorted(_without_numbers(lists[name], missing))
        ]
        yield Finding(
            "lists that drift apart",
            Severity.WARNING,
            f"{one} and {other}",
            f"{one} and {other} agree in {alike} entries and differ in "
            f"{every - alike}: are they meant to be the same?",
            tuple(evidence[:8]),
            lists=(one, other),
        )


def _said(access_list: AccessList) -> _Said:
    entries = frozenset(map(_SAYS, access_list.body.entries))
    return _Said(entries, np.array([hash(each) for each in entries], dtype=np.int64))


def _without_numbers(access_list: AccessList, said: Iterable[tuple[Any, ...]]) -> Iterator[str]:
    for says in said:
        entry = Entry(0, *says)
        yield write_entry(entry, access_list.family, access_list.kind).split(" ", 1)[1]


def _nearly_alike(said: Mapping[str, _Said]) -> list[tuple[str, str]]:
    """The pairs of lists of whose entries nearly all are the same, as far as hashes tell entries apart."""
    if not said:
        return []
    names = list(said)
    _, columns = np.unique(np.concatenate([each.hashes for each in said.values()]), return_inverse=True)
    sizes = np.array([len(each.hashes) for each in said.values()], dtype=np.int64)
    rows = np.repeat(np.arange(len(names)), sizes)
    shared = np.bincount(columns)[columns] > 1
    rows, columns = rows[shared], columns[shared]
    common = np.zeros((len(names), len(names)), dtype=np.int32)
    for _, indices in grouped(columns):
        common[np.ix_(rows[indices], rows[indices])] += 1
    first, second = np.nonzero(np.triu(common >= 3, k=1))
    both = common[first, second]
    near = both >= _LIKE * (sizes[first] + sizes[second] - both)
    pairs = zip(first[near].tolist(), second[near].tolist(), strict=True)
    return [(names[one], names[other]) for one, other in pairs]
