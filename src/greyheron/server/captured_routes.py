"""Traffic that was really there: read, kept, and judged in every state."""

import json
from typing import Annotated, Any

from fastapi import APIRouter, File, Form, UploadFile
from pydantic import BaseModel, Field

from greyheron.analysis.traffic.folding import SeenTraffic, fold
from greyheron.analysis.traffic.judging import odd, parties_of
from greyheron.analysis.traffic.packing import packed, unpacked
from greyheron.analysis.traffic.told import Letting, TrafficRow, letting_through, rows_of
from greyheron.compute.questions.traffic import TrafficQuestion
from greyheron.compute.state import NetworkState
from greyheron.core.progress import Progress
from greyheron.formats.bundle import bundle_among
from greyheron.formats.traffic import read_traffic
from greyheron.formats.traffic.tables import COLUMNS
from greyheron.server.dependencies import PROBLEMS, At, Computations, Derived, SeenKept, Store, contents_of
from greyheron.server.jobs import Telling, Working
from greyheron.server.problems import Refusal
from greyheron.server.schemas import NoticeItem, RequestBody, notices_told

router = APIRouter(prefix="/api", responses=PROBLEMS)
MOST_ROWS = 2000
"""So many conversations are sent: those that cannot be first, then those that the draft stops."""
_READING = 0.8
"""How much of the work, about, reading is."""


class TrafficRead(BaseModel):
    """What was read: what each file is, and how much is in it.

    about_others:  records that say something about other packets, which are no conversations
    """

    kinds: list[str]
    records: int
    conversations: int
    about_others: int
    left_out: list[NoticeItem]
    left_out_count: int


class TrafficReport(BaseModel):
    """Conversations that were there, with what becomes of them; `rows` are the most telling of `count`."""

    rows: list[TrafficRow]
    count: int
    packets: int
    would_stop: int
    cannot_be: int
    stopped: int


class ChosenRows(RequestBody):
    """Conversations by their index."""

    rows: Annotated[list[int], Field(min_length=1, max_length=5000)]


class LettingThrough(BaseModel):
    """Entries for conversations: those that let just them through, and the fewest."""

    exact: Letting
    few: Letting


class _CapturedTraffic:
    """Traffic that was brought in, folded."""

    def __init__(self, _state: NetworkState) -> None:
        self.seen: SeenTraffic | None = None

    @property
    def nbytes(self) -> int:
        return 0 if self.seen is None else self.seen.nbytes


@router.post("/networks/{network_id}/traffic", status_code=202)
async def read_seen(
    network_id: str,
    files: Annotated[list[UploadFile], File()],
    store: Store,
    derived: Derived,
    jobs: Computations,
    kept: SeenKept,
    columns: Annotated[
        str, Form(description="For tables: names of columns by what they hold, as JSON.")
    ] = "{}",
) -> Working[TrafficRead]:
    """Begin to read captures, flow records or connection tables; they take the place of those before."""
    store.get(network_id)
    contents = await contents_of(files)
    named = _columns(columns)

    def work(progress: Telling) -> TrafficRead:
        def on(done: float) -> None:
            progress(_READING * done, "reading")

        records, notices, kinds = read_traffic(bundle_among(contents), named, on)
        progress(_READING, "folding")
        seen = fold(records)
        kept.keep(network_id, packed(seen))
        derived.of(network_id).kept(_CapturedTraffic).seen = seen
        told, count = notices_told(notices)
        return TrafficRead(
            kinds=kinds,
            records=len(records),
            conversations=len(seen),
            about_others=seen.errors,
            left_out=told,
            left_out_count=count,
        )

    return jobs.start(network_id, work)


@router.post("/networks/{network_id}/traffic/verdicts")
def judge_seen(
    network_id: str, store: Store, derived: Derived, jobs: Computations, kept: SeenKept, at: At
) -> Working[TrafficReport]:
    """Begin to say what becomes of the traffic that was read, in each state, each when it was there."""
    stored = store.get(network_id)
    seen = _seen(network_id, derived, kept)

    def work(progress: Progress) -> TrafficReport:
        states = derived.of(network_id)
        judged = states.ask(TrafficQuestion(seen=seen, at=at), stored, progress)
        world = states.timeline(stored.draft, at).first
        parties = parties_of(seen, world)
        return _report(rows_of(seen, parties, judged, odd(seen, parties, judged[1]), world))

    return jobs.start(network_id, work)


@router.post("/networks/{network_id}/traffic/entries")
def entries_for_seen(
    network_id: str, chosen: ChosenRows, store: Store, derived: Derived, kept: SeenKept
) -> LettingThrough:
    """The entries that would let chosen conversations through."""
    store.get(network_id)
    seen = _seen(network_id, derived, kept)
    if not all(0 <= row < len(seen) for row in chosen.rows):
        raise Refusal(422, f"Conversations are numbered from 0 to {len(seen) - 1}.")
    exact, few = letting_through(seen, chosen.rows)
    return LettingThrough(exact=exact, few=few)


def _seen(network_id: str, derived: Derived, kept: SeenKept) -> SeenTraffic:
    captured = derived.of(network_id).kept(_CapturedTraffic)
    if captured.seen is None:
        content = kept.last(network_id)
        if content is None:
            raise Refusal(404, "No traffic was brought in to this network: bring it in.")
        captured.seen = unpacked(content)
    return captured.seen


def _columns(text: str) -> dict[str, str]:
    try:
        found: Any = json.loads(text)
    except (ValueError, RecursionError):
        found = None
    if not isinstance(found, dict) or not all(isinstance(each, str) for each in found.values()):
        raise Refusal(422, 'Columns are names by what they hold, as {"source": "client"}.')
    strange = sorted(set(found) - set(COLUMNS))
    if strange:
        raise Refusal(422, f"“{strange[0]}” is nothing that a column holds: one of {', '.join(COLUMNS)}.")
    return found


def _report(rows: list[TrafficRow]) -> TrafficReport:
    ordered = sorted(rows, key=lambda row: (row.odd is None, not row.would_stop, row.draft == "passes"))
    return TrafficReport(
        rows=ordered[:MOST_ROWS],
        count=len(rows),
        packets=sum(row.packets for row in rows),
        would_stop=sum(row.would_stop for row in rows),
        cannot_be=sum(row.odd is not None for row in rows),
        stopped=sum(row.draft not in ("passes", None) for row in rows),
    )
