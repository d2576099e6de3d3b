"""A finding, and what it rests on."""

from bisect import bisect_left
from collections.abc import Iterable
from dataclasses import dataclass
from enum import StrEnum
from hashlib import sha256
from operator import attrgetter

from msgspec import Struct

from greyheron.analysis.findings.finding_cache import KeptFindings
from greyheron.core.bulk.engines import Engines
from greyheron.core.progress import Progress, unwatched
from greyheron.core.shares import WHOLE, Share
from greyheron.core.timeline import Timeline
from greyheron.core.world import World
from greyheron.model.attachment import AttachmentPoint
from greyheron.model.changes import Change, key_of, putting
from greyheron.model.document import AccessList, Network, Placement
from greyheron.model.notation.entries import write_entry
from greyheron.model.notation.lists import write_body


class Severity(StrEnum):
    FAULT = "fault"
    WARNING = "warning"
    NOTE = "note"


@dataclass(frozen=True, slots=True)
class Repair:
    """What would mend it: edits of the draft, and what they are called."""

    label: str
    changes: tuple[Change, ...]


class Finding(Struct, frozen=True):
    """Something wrong or doubtful.

    kind:  a word for what it is;  subject:  what it is about, the same as long as it is the same matter
    text:  a sentence;  evidence:  more sentences, with entries, packets and places
    devices, lists:  by name, what it concerns;  flow:  a packet that shows it, as a test flow
    """

    kind: str
    severity: Severity
    subject: str
    text: str
    evidence: tuple[str, ...] = ()
    devices: tuple[str, ...] = ()
    lists: tuple[str, ...] = ()
    flow: str | None = None
    repair: Repair | None = None

    @property
    def key(self) -> str:
        """What it is called when it is accepted."""
        return f"{self.kind}: {self.subject}"[:200]

    @property
    def digest(self) -> str:
        """Changes when what it speaks of does."""
        return sha256("\n".join((self.text, *self.evidence)).encode()).hexdigest()[:16]


class SearchGround(Struct, frozen=True):
    """What findings are looked for in: a draft, and its world at some time.

    timeline:  all times that are looked at
    engines:  gives the bulk engine of a world
    kept:  what was found before
    progress:  told how far the search is
    share:  of the lists that are looked at
    """

    network: Network
    world: World
    timeline: Timeline
    engines: Engines
    kept: KeptFindings
    progress: Progress = unwatched
    share: Share = WHOLE


def moving(placed: Placement, to: AttachmentPoint) -> tuple[Change, ...]:
    """Changes that take a list from where it stands to another place."""
    moved = placed.model_copy(update={"device": to.device, "at": to.at, "direction": to.direction})
    gone = Change(collection="placements", key=key_of("placements", placed))
    return gone, putting("placements", moved)


def line_of(access_list: AccessList, number: int) -> str:
    """An entry as it stands in its list."""
    entries = access_list.body.entries
    entry = entries[bisect_left(entries, number, key=attrgetter("number"))]
    return write_entry(entry, access_list.family, access_list.kind)


def text_of(access_list: AccessList) -> str:
    """The entries of a list as they are written."""
    return write_body(access_list.body, access_list.family, access_list.kind)


def counted(many: int, word: str) -> str:
    return f"{many} {word}" if many == 1 else f"{many} {word}s"


def shortened(parts: Iterable[str], most: int = 6) -> str:
    """Some of many, in words."""
    found = list(dict.fromkeys(parts))
    more = f" and {len(found) - most} more" if len(found) > most else ""
    return ", ".join(found[:most]) + more
