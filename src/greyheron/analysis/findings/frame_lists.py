"""Findings in frame lists by themselves (§14)."""

from collections.abc import Iterator

from greyheron.analysis.advice.entries import rewritten, with_entries
from greyheron.analysis.entries.frames import hiding
from greyheron.analysis.findings.finding import Finding, Repair, Severity, line_of
from greyheron.analysis.findings.repairs import moved_before, taking_out
from greyheron.core.lists.frames import ARP, BROADCAST, Frame, decide_frame
from greyheron.core.lists.resolved import FrameList
from greyheron.model.document import AccessList
from greyheron.model.entry import EVERY_MAC_BIT, FrameMatch, MacBlock
from greyheron.model.names import ETHER_TYPES
from greyheron.model.values import Action


def in_frame_list(access_list: AccessList) -> Iterator[Finding]:
    """Entries that another one takes everything from, and packets without the way to find a neighbour."""
    yield from _hidden(access_list)
    yield from _without_arp(access_list)


def _hidden(access_list: AccessList) -> Iterator[Finding]:
    for entry in access_list.body.entries:
        by = hiding(entry, access_list.body.entries)
        if by is None:
            continue
        opposite = by.action is not entry.action
        yield Finding(
            "general before specific" if opposite else "entry that never matches",
            Severity.FAULT if opposite else Severity.WARNING,
            f"{access_list.name} entry {entry.number}",
            f"In {access_list.name}, entry {entry.number} never matches: entry {by.number} before it "
            f"takes all its frames{' and does the opposite' if opposite else ''}.",
            (line_of(access_list, by.number), line_of(access_list, entry.number)),
            lists=(access_list.name,),
            repair=moved_before(access_list, entry.number, by.number)
            if opposite
            else taking_out(access_list, (entry.number,)),
        )


def _without_arp(access_list: AccessList) -> Iterator[Finding]:
    """Some IPv4 is let through, and no neighbour that would carry it can be asked for (RFC 826)."""
    found = FrameList(access_list.name, access_list.body.entries)
    for entry in found.entries:
        match = entry.frame or FrameMatch()
        if entry.action is Action.DENY or match.ether_type != ETHER_TYPES["ipv4"]:
            continue
        sender = MacBlock(0x0200_0000_0001) if match.source is None else match.source
        asks = Frame(ARP, sender.value & EVERY_MAC_BIT, BROADCAST)
        decision = decide_frame(found, asks)
        if decision.denies:
            by = "the implicit deny" if decision.entry is None else f"entry {decision.entry}"
            yield Finding(
                "frame list that stops ARP",
                Severity.WARNING,
                access_list.name,
                f"{access_list.name} lets IPv4 through in entry {entry.number} and stops ARP by {by}: "
                "neighbours are not found, and nothing is sent.",
                (line_of(access_list, entry.number),),
                lists=(access_list.name,),
                repair=_letting_arp(access_list, decision.entry),
            )
            return


def _letting_arp(access_list: AccessList, before: int | None) -> Repair:
    text = with_entries(access_list, ["permit arp"], before)
    return Repair(f"let ARP through in {access_list.name}", (rewritten(access_list, text),))
