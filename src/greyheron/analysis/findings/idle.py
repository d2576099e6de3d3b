"""What the margin of a list says while it is written: entries that other entries leave nothing to do."""

from dataclasses import dataclass

from greyheron.analysis.entries.ineffective import Ineffective, ineffective_entries
from greyheron.analysis.findings.finding import shortened
from greyheron.core.lists.resolved import Names, resolve
from greyheron.core.progress import Cancelled, within
from greyheron.model.document import AccessList, Network

MOST_SECONDS = 1.0
"""Somebody types: what takes longer is told by the findings."""
_NAMED = 3


@dataclass(frozen=True, slots=True)
class IdleEntry:
    """An entry with nothing to do, and why in words. matched: whether packets come to it at all."""

    number: int
    matched: bool
    text: str


def idle_entries(access_list: AccessList, network: Network) -> tuple[IdleEntry, ...]:
    """Those of a list of `network` as it is written; none where periods switch entries, or it takes too long.

    Frame lists are not looked at.
    """
    if access_list.family is None or access_list.body.periods:
        return ()
    try:
        found = ineffective_entries(resolve(access_list, Names(network)), within(MOST_SECONDS))
    except Cancelled:
        return ()
    return tuple(IdleEntry(each.number, each.matched, _words(each)) for each in found)


def _words(each: Ineffective) -> str:
    several = len(each.by) > 1
    who = f"{'entries' if several else 'entry'} {shortened(map(str, each.by), _NAMED)}"
    if each.matched:
        return f"changes nothing: {who} would do the same"
    opposite = f", and {'do' if several else 'does'} the opposite" if each.opposite else ""
    return f"never matches: {who} {'take' if several else 'takes'} all of its packets first{opposite}"
