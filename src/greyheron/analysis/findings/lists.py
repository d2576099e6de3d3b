"""Findings in lists by themselves: their entries, names and notes."""

import re
from bisect import bisect_right
from collections.abc import Iterable, Iterator
from dataclasses import replace

from greyheron.analysis.entries import rewritten
from greyheron.analysis.findings.coverage import Idle
from greyheron.analysis.findings.finding import Finding, Ground, Repair, Severity, shortened
from greyheron.analysis.proof.regions import meet, span_union
from greyheron.core.addresses import block_of
from greyheron.core.lists import Names, ResolvedList, Rule, resolve
from greyheron.model.changes import Change
from greyheron.model.document import AccessList, Device, Network, family_of
from greyheron.model.entry import AddressBlock, Entry, ListBody
from greyheron.model.notation.entries import write_entry
from greyheron.model.notation.lists import write_body
from greyheron.model.values import Action, Direction, Family

_LIKE = 0.6
"""Lists of which so much is the same are thought to be meant as one."""


def in_lists(ground: Ground) -> Iterator[Finding]:
    network, names = ground.network, Names(ground.network)
    placed = {each.list for each in network.placements}
    known = {found.name: found for found in ground.world.lists.values()}
    held = _Held(network)
    for access_list in network.lists:
        resolved = known.get(access_list.name) or resolve(access_list, names)
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
        if access_list.body.entries and all(each.action is Action.DENY for each in access_list.body.entries):
            yield _only_denies(access_list)
        yield from _idle(access_list, ground.idle.of(resolved))
        for rule in resolved.rules:
            yield from _addresses(access_list, rule, held)
            yield from _note(access_list, rule.entry)
        yield from _one_address_only(access_list, resolved, held)
    yield from _named_otherwise(network)
    yield from _drifting(network)


def _line(access_list: AccessList, number: int) -> str:
    entry = next(each for each in access_list.body.entries if each.number == number)
    return write_entry(entry, access_list.family, access_list.kind)


def _without(access_list: AccessList, numbers: Iterable[int]) -> Change:
    gone = set(numbers)
    left = tuple(each for each in access_list.body.entries if each.number not in gone)
    return rewritten(access_list, _written(access_list, replace(access_list.body, entries=left)))


def _written(access_list: AccessList, body: ListBody | None = None) -> str:
    """The text of a list, or of what would be its body."""
    return write_body(body or access_list.body, access_list.family, access_list.kind)


def _nowhere(access_list: AccessList) -> Finding:
    return Finding(
        "placed nowhere",
        Severity.WARNING,
        access_list.name,
        f"{access_list.name} is placed nowhere: it does nothing.",
        lists=(access_list.name,),
    )


def _only_denies(access_list: AccessList) -> Finding:
    everything = "permit from any" if access_list.kind == "standard" else "permit any from any to any"
    change = rewritten(access_list, _written(access_list) + everything)
    return Finding(
        "list of denies only",
        Severity.FAULT,
        access_list.name,
        f"{access_list.name} has denies only: with the unseen deny at its end it lets nothing through.",
        (f"its last entry: {_line(access_list, access_list.body.entries[-1].number)}",),
        lists=(access_list.name,),
        repair=Repair(f"permit the rest at the end of {access_list.name}", (change,)),
    )


def _idle(access_list: AccessList, idle: Iterable[Idle]) -> Iterator[Finding]:
    idle = tuple(idle)
    hidden = [each for each in idle if not each.matched]
    opposite = [each for each in hidden if each.opposite]
    never = [each for each in hidden if not each.opposite]
    redundant = [each for each in idle if each.matched]
    if opposite:
        first = opposite[0]
        many = f" and {len(opposite) - 1} more" if len(opposite) > 1 else ""
        yield Finding(
            "general before specific",
            Severity.FAULT,
            access_list.name,
            f"In {access_list.name}, entry {first.number}{many} never matches: "
            f"entry {shortened(map(str, first.by))} stands before it, takes all of its "
            "packets and does the opposite.",
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
            repair=Repair(
                f"take the idle entries out of {access_list.name}",
                (_without(access_list, (each.number for each in never)),),
            ),
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
        )


def _pairs(access_list: AccessList, idle: Iterable[Idle]) -> tuple[str, ...]:
    return tuple(
        f"{_line(access_list, each.number)}: "
        f"{'; '.join(_line(access_list, number) for number in each.by[:3])}"
        for each in list(idle)[:12]
    )


def _moved_up(access_list: AccessList, idle: Iterable[Idle]) -> Repair:
    """Specific entries before the general ones that hide them."""
    entries = list(access_list.body.entries)
    for each in idle:
        at = next(place for place, entry in enumerate(entries) if entry.number == each.number)
        moved = entries.pop(at)
        goal = next(place for place, entry in enumerate(entries) if entry.number in each.by)
        entries.insert(goal, moved)
    even = tuple(replace(entry, number=10 * place) for place, entry in enumerate(entries, 1))
    change = rewritten(access_list, _written(access_list, replace(access_list.body, entries=even)))
    return Repair(f"move the hidden entries of {access_list.name} up", (change,))


class _Held:
    """What addresses there are in a network, and whose."""

    def __init__(self, network: Network) -> None:
        self._blocks: dict[Family, list[AddressBlock]] = {family: [] for family in Family}
        self.owners: dict[tuple[Family, int], Device] = {}
        for device in network.devices:
            for interface in device.interfaces:
                for address in interface.addresses:
                    block = block_of(address.network)
                    self._blocks[block.family].append(block)
                    self.owners[block.family, int(address.ip)] = device
            outside = (*device.prefixes, *(rule.to for rule in device.translations if rule.to is not None))
            for prefix in outside:
                self._blocks[family_of(prefix)].append(block_of(prefix))
        self._spans = {
            family: span_union((block.first, block.last) for block in blocks)
            for family, blocks in self._blocks.items()
        }
        self._firsts = {family: [low for low, _ in spans] for family, spans in self._spans.items()}

    def any_in(self, block: AddressBlock) -> bool:
        if block.length is None:
            return any(meet(block, each) for each in self._blocks[block.family])
        at = bisect_right(self._firsts[block.family], block.last) - 1
        return at >= 0 and self._spans[block.family][at][1] >= block.first


_LOCAL = (
    AddressBlock.prefix(Family.IPV4, 0xE000_0000, 4),
    AddressBlock.prefix(Family.IPV6, 0xFF << 120, 8),
    AddressBlock.prefix(Family.IPV6, 0xFE80 << 112, 10),
    AddressBlock.prefix(Family.IPV4, 0xFFFF_FFFF, 32),
)


def _addresses(access_list: AccessList, rule: Rule, held: _Held) -> Iterator[Finding]:
    for blocks in (rule.sources, rule.destinations):
        for block in blocks or ():
            wild = block.care ^ block.family.every_bit
            if block.length is None and wild & (wild + 1) and _is_mask(wild, block.family):
                yield Finding(
                    "inverted wildcard",
                    Severity.FAULT,
                    f"{access_list.name} entry {rule.entry.number}",
                    f"{access_list.name} entry {rule.entry.number} writes a mask where a wildcard belongs: "
                    f"it holds {block.size:,} scattered addresses, every one that ends like "
                    f"{block.family.text(block.value)}.",
                    (
                        _line(access_list, rule.entry.number),
                        f"the ones of {block.family.text(wild)} are what is not compared: "
                        f"write the prefix that is meant, with /{wild.bit_count()}",
                    ),
                    lists=(access_list.name,),
                )
            elif not held.any_in(block) and not any(each.holds(block.value) for each in _LOCAL):
                yield Finding(
                    "unknown address",
                    Severity.WARNING,
                    f"{access_list.name} entry {rule.entry.number}",
                    f"{access_list.name} entry {rule.entry.number} names {block}, which "
                    "nobody has in this network.",
                    (_line(access_list, rule.entry.number),),
                    lists=(access_list.name,),
                )


def _is_mask(wild: int, family: Family) -> bool:
    """Whether the ones of a wildcard all stand in front, as those of a prefix's mask do."""
    return wild == family.every_bit ^ (family.every_bit >> wild.bit_count())


_PING = re.compile(r"\bping", re.IGNORECASE)


def _note(access_list: AccessList, entry: Entry) -> Iterator[Finding]:
    words = " ".join([entry.note or "", *entry.remarks])
    if entry.icmp is not None and _PING.search(words) and entry.icmp.type not in access_list.family.echo:
        yield Finding(
            "ICMP type that does not fit its note",
            Severity.WARNING,
            f"{access_list.name} entry {entry.number}",
            f"{access_list.name} entry {entry.number} speaks of ping, but its ICMP type is "
            "neither echo request nor echo reply.",
            (
                write_entry(entry, access_list.family, access_list.kind),
                *(f"# {each}" for each in entry.remarks),
            ),
            lists=(access_list.name,),
        )


def _one_address_only(access_list: AccessList, resolved: ResolvedList, held: _Held) -> Iterator[Finding]:
    """A deny towards one address of a device that has more: the others are not covered."""
    family = access_list.family
    denying = [rule for rule in resolved.rules if rule.entry.action is Action.DENY and rule.destinations]
    for rule in denying:
        blocks = rule.destinations or ()
        device = held.owners.get((family, blocks[0].value)) if len(blocks) == 1 else None
        if device is None or blocks[0].size != 1:
            continue
        block = blocks[0]
        every = [int(address.ip) for interface in device.interfaces for address in interface.of(family)]
        left = [
            address
            for address in every
            if not any(each.holds(address) for other in denying for each in other.destinations or ())
        ]
        if left:
            text = _written(access_list)
            line = write_entry(rule.entry, family, access_list.kind)
            mended = text.replace(line, line.replace(f"to {block}", f"to @{device.name}"))
            change = rewritten(access_list, mended)
            yield Finding(
                "one address of several",
                Severity.WARNING,
                f"{access_list.name} entry {rule.entry.number}",
                f"{access_list.name} entry {rule.entry.number} covers {block} of {device.name} only: "
                f"it has {shortened(family.text(each) for each in left)} as well.",
                (line,),
                (device.name,),
                (access_list.name,),
                repair=Repair(f"cover every address of {device.name}", (change,)),
            )


_WAY = {"in": Direction.IN, "out": Direction.OUT}


def _named_otherwise(network: Network) -> Iterator[Finding]:
    for placed in network.placements:
        said = {_WAY[word] for word in re.split(r"[-_.]", placed.list.lower())[1:] if word in _WAY}
        if len(said) == 1 and placed.direction not in said:
            yield Finding(
                "name of another direction",
                Severity.WARNING,
                f"{placed.list} at {placed.device} {placed.at}",
                f"{placed.list} is called after the other direction: at {placed.device} "
                f"{placed.at} it stands {placed.direction}bound.",
                devices=(placed.device,),
                lists=(placed.list,),
            )


def _drifting(network: Network) -> Iterator[Finding]:
    """Lists that are nearly the same, though not quite."""
    lines = {
        each.name: frozenset(
            write_entry(entry, each.family, each.kind).split(" ", 1)[1].split(" #")[0]
            for entry in each.body.entries
        )
        for each in network.lists
        if len(each.body.entries) >= 3
    }
    names = list(lines)
    for place, one in enumerate(names):
        for other in names[place + 1 :]:
            alike, every = len(lines[one] & lines[other]), len(lines[one] | lines[other])
            if len(lines[one] ^ lines[other]) and alike / every >= _LIKE and alike >= 3:
                evidence = [f"only in {one}: {line}" for line in sorted(lines[one] - lines[other])]
                evidence += [f"only in {other}: {line}" for line in sorted(lines[other] - lines[one])]
                yield Finding(
                    "lists that drift apart",
                    Severity.WARNING,
                    f"{one} and {other}",
                    f"{one} and {other} agree in {alike} entries and differ in "
                    f"{every - alike}: are they meant to be the same?",
                    tuple(evidence[:8]),
                    lists=(one, other),
                )
