"""What goes over the wire that is not a document or a report already."""

from collections.abc import Sequence
from datetime import datetime
from typing import Annotated, Any, Literal

from msgspec.structs import asdict
from pydantic import BaseModel, ConfigDict, Field, StringConstraints

from greyheron.analysis.findings.idle import IdleEntry
from greyheron.analysis.presentation.ranges import EntryCover
from greyheron.analysis.testing.book import TestMarks
from greyheron.formats.format import Notice
from greyheron.model.changes import Change, Collection, difference
from greyheron.model.delta import collections_between, fields_between, stretches
from greyheron.model.document import AccessList, Network, Placement
from greyheron.model.intents import AnyIntent
from greyheron.model.notation.line import Option
from greyheron.model.parts import Section
from greyheron.model.read import edited
from greyheron.model.renaming import NamedCollection
from greyheron.model.set_lines import SetCollection
from greyheron.model.values import Family, ListKind, State
from greyheron.server.problems import ProblemItem
from greyheron.store.stored import Revision, Stored, Summary


class RequestBody(BaseModel):
    model_config = ConfigDict(extra="forbid")


MOST_NOTICES = 500
"""So many are sent of each kind; how many there are is said."""


class NoticeItem(BaseModel):
    """Something left out or guessed: where, and what."""

    where: str
    message: str


def notices_told(notices: Sequence[Notice]) -> tuple[list[NoticeItem], int]:
    """The first of them, and how many there are."""
    told = [NoticeItem(where=each.where, message=each.message) for each in notices[:MOST_NOTICES]]
    return told, len(notices)


class NetworkSummary(BaseModel):
    """A network without its documents.

    surprises:  how many test flows do not do what is expected; null before this version was tried
    """

    id: str
    name: str
    version: int
    changed_at: datetime
    changed_by: str
    devices: int
    lists: int
    entries: int
    surprises: int | None

    @classmethod
    def of(cls, summary: Summary) -> "NetworkSummary":
        return cls(**asdict(summary))


class ChangedKey(BaseModel):
    """What differs between what is running and the draft."""

    collection: Collection
    key: str


class Differing(BaseModel):
    """What of a network is not as in another one, which somebody has.

    collections:  those that are not the same, each as stretches: a pair of where items stand in the other
        (the first index, and the one behind the last), or an item that is not there
    fields:  what else is not the same
    """

    collections: dict[str, list[tuple[int, int] | dict[str, Any]]]
    fields: dict[str, Any]

    @classmethod
    def between(cls, held: Network, network: Network) -> "Differing":
        """What makes `network` of `held`."""
        collections: dict[str, list[tuple[int, int] | dict[str, Any]]] = {}
        for name, new, old in collections_between(held, network):
            told = [
                each
                for run in stretches(new, old)
                for each in ([run.kept] if run.kept is not None else map(_whole, run.fresh))
            ]
            if (new or old) and told != [(0, len(old))]:
                collections[name] = told
        return cls(collections=collections, fields=fields_between(held, network))


class OpenNetwork(BaseModel):
    """A network as the workbench sees it.

    running:  what of it is not as in the draft
    changes:  those that lead from what is running to the draft;  made:  those of an intent just carried out
    """

    id: str
    version: int
    running: Differing
    draft: Network
    changes: list[Change]
    made: list[Change]
    undo: str | None
    redo: str | None

    @classmethod
    def of(cls, stored: Stored, made: Sequence[Change] = ()) -> "OpenNetwork":
        return cls(
            id=stored.id,
            version=stored.version,
            running=Differing.between(stored.draft, stored.running),
            draft=stored.draft,
            changes=difference(stored.running, stored.draft),
            made=list(made),
            undo=stored.undo,
            redo=stored.redo,
        )


class NetworkPatch(BaseModel):
    """What makes of a network in version `base` what it is in `version`; it does not grow with the network.

    draft:  what of it is not as it was
    applied:  whether what is running is the draft now; otherwise it is as it was
    changes:  what differs from what is running;  made:  the changes of an intent just carried out
    """

    id: str
    version: int
    base: int
    draft: Differing
    applied: bool
    changes: list[ChangedKey]
    made: list[Change]
    undo: str | None
    redo: str | None

    @classmethod
    def of(cls, before: Stored, after: Stored, made: Sequence[Change]) -> "NetworkPatch | None":
        """None where more than the draft has changed."""
        applied = after.running is after.draft
        if after.running is not before.running and not applied:
            return None
        return cls(
            id=after.id,
            version=after.version,
            base=before.version,
            draft=Differing.between(before.draft, after.draft),
            applied=applied,
            changes=[
                ChangedKey(collection=each.collection, key=each.key)
                for each in difference(after.running, after.draft)
            ],
            made=list(made),
            undo=after.undo,
            redo=after.redo,
        )


def _whole(item: BaseModel) -> dict[str, Any]:
    """An item as it stands in a network, with what is at its default."""
    return item.model_dump(mode="json", by_alias=True)


class NewNetwork(RequestBody):
    name: Annotated[str, StringConstraints(strip_whitespace=True, min_length=1, max_length=80)]


class Ready(BaseModel):
    """A network that has been read: it can be opened at once."""

    id: str
    version: int


class Mended(BaseModel):
    """A network that was made of what reads of another one; `left_out`: what does not."""

    id: str
    left_out: list[ProblemItem]


class Edit(RequestBody):
    """Changes that belong together; `label` is what undoing them is called."""

    label: Annotated[str, Field(min_length=1, max_length=200)]
    changes: Annotated[list[Change], Field(min_length=1, max_length=10_000)]


class Trial(RequestBody):
    """What is not made: an intent, or changes; neither for the draft as it is."""

    intent: AnyIntent | None = None
    changes: Annotated[list[Change], Field(max_length=10_000)] = []

    def after(self, draft: Network) -> Network:
        """The draft as it would be; itself where nothing is tried. Raises DocumentError or ChangeError."""
        changes = [*(self.intent.changes(draft) if self.intent else ()), *self.changes]
        return edited(draft, changes) if changes else draft


class Time(BaseModel):
    """Some times, in words; `at` is one moment of them."""

    when: str
    at: str


class ApplyNote(RequestBody):
    note: Annotated[str, Field(max_length=2000)] = ""


class BareFlow(RequestBody):
    """A flow in the notation, without its expectation."""

    flow: Annotated[str, Field(max_length=500)]


class TraceRequest(Trial, BareFlow):
    """The flow, the state to try it in, and a trial of the draft."""

    state: State = State.DRAFT


class ListText(RequestBody):
    """A list as it is typed; a frame list has no family."""

    name: Annotated[str, Field(max_length=63)] = "list"
    family: Family | None = None
    kind: ListKind
    entries: Annotated[str, Field(max_length=8_000_000)]

    def typed_in(self, draft: Network) -> Network:
        """A draft with this list in place of its own. Raises DocumentError."""
        return edited(draft, [Change(collection="lists", key=self.name, item=self.model_dump())])


class ListReading(BaseModel):
    """What a list's text means: its problems, or its own writing and what each entry covers.

    renumbered: the same entries in the same order, numbered in steps of ten
    idle: entries that others leave nothing to do
    """

    problems: list[ProblemItem]
    formatted: str | None
    renumbered: str | None
    covers: list[EntryCover]
    idle: list[IdleEntry] = []


class FlowText(RequestBody):
    text: Annotated[str, Field(max_length=500)]


class FlowReading(BaseModel):
    """A test flow's text: its problems, or its own writing."""

    problems: list[ProblemItem]
    formatted: str | None


class ItemText(RequestBody):
    """One item of a document as it stands in a workspace file."""

    text: Annotated[str, Field(max_length=1_000_000)]


class ItemReading(BaseModel):
    """What an item's text means: its problems, or the change that puts it into the draft.

    to:  what a new device is to be linked with in the same edit, by name or as `device:interface`
    """

    problems: list[ProblemItem]
    change: Change | None
    to: list[str] = []


class NewName(RequestBody):
    """What an item of a collection is to be called instead of `key`."""

    collection: NamedCollection
    key: Annotated[str, Field(max_length=63)]
    name: Annotated[str, Field(max_length=200)]


class Renaming(BaseModel):
    """What keeps an item from a name, or the changes that give it the name wherever it is spoken of."""

    problems: list[ProblemItem]
    changes: list[Change]


class CouldJoin(BaseModel):
    """The interfaces of each side that a link could take; none: it gets a new one."""

    one: list[str]
    other: list[str]


class TableText(RequestBody):
    """A table as it was pasted."""

    text: Annotated[str, Field(max_length=200_000)]


class DevicesReading(BaseModel):
    """What a table of devices would add, or what is wrong with it, by line."""

    problems: list[ProblemItem]
    changes: list[Change]


class SetText(RequestBody):
    """A set or a period as a line; `key` is the one that it takes the place of, null for a new one."""

    text: Annotated[str, Field(max_length=20_000)] | None
    key: Annotated[str, Field(max_length=200)] | None = None


class PartText(RequestBody):
    """A part of a device as it is typed; without text the part at `place` is taken out."""

    text: Annotated[str, Field(max_length=2000)] | None
    place: Annotated[int, Field(ge=0)] | None = None


class PartLines(BaseModel):
    """The parts of one section of a device, each as it would be typed."""

    section: Section
    lines: list[str]


class Completion(RequestBody):
    """A line up to the cursor.

    family, kind: of an entry's list, null for a frame list;  device, section: of a device's part
    collection: of a set
    """

    of: Literal["entry", "flow", "requirement", "device", "part", "set"]
    text: Annotated[str, Field(max_length=2000)]
    device: Annotated[str, Field(max_length=63)] = ""
    section: Section = "interfaces"
    collection: SetCollection = "address_sets"
    family: Family | None = Family.IPV4
    kind: ListKind = ListKind.EXTENDED


class Options(BaseModel):
    """What could stand at the cursor in place of `word`."""

    word: str
    options: list[Option]


class Book(BaseModel):
    """The verdicts of every test flow, for one version of the network."""

    version: int
    tests: list[TestMarks]


class Foreseen(Book):
    """What would be after a trial: the book, every placement, and the lists that would be others."""

    placements: list[Placement]
    lists: list[AccessList]


class RevisionItem(BaseModel):
    number: int
    note: str
    applied_at: datetime

    @classmethod
    def of(cls, revision: Revision) -> "RevisionItem":
        return cls(number=revision.number, note=revision.note, applied_at=revision.applied_at)
