"""What routes ask for: the stores, what was worked out before, and the version that a write is based on."""

from asyncio import Semaphore
from collections.abc import AsyncIterator, Iterable
from typing import Annotated, Any
from urllib.parse import unquote

from fastapi import Depends, Header, Query, Request, UploadFile

from greyheron.compute.derived import DerivedStates
from greyheron.model.notation.periods import read_moment
from greyheron.model.period import Moment
from greyheron.server.jobs import Jobs
from greyheron.server.problems import ProblemDocument, Refusal
from greyheron.server.security import is_number
from greyheron.store.networks import NetworkStore
from greyheron.store.rehearsals import RehearsalStore
from greyheron.store.results import ResultStore
from greyheron.store.seen import SeenTrafficStore
from greyheron.store.traffic import TrafficStore

PROBLEMS: dict[int | str, dict[str, Any]] = {
    status: {"model": ProblemDocument} for status in (404, 409, 412, 422, 428)
}


def _kept(name: str) -> Any:
    """What the application keeps under `name`."""

    def find(request: Request) -> Any:
        return getattr(request.app.state, name)

    return Depends(find)


def based_on(if_match: Annotated[str | None, Header()] = None) -> int:
    """The version that a write is based on, from If-Match (RFC 9110 13.1.1). Raises Refusal."""
    if if_match is None:
        raise Refusal(428, "Say which version this write is based on: send If-Match with the network's ETag.")
    version = if_match.strip().strip('"')
    if not is_number(version):
        raise Refusal(422, f'If-Match is “{if_match}”: expected the ETag of the network, such as "7".')
    return int(version)


def author_of(
    request: Request, grey_heron_author: Annotated[str | None, Header(max_length=400)] = None
) -> str:
    """Who asks: as the header says (percent-encoded), else whoever runs the server."""
    given = unquote(grey_heron_author or "").strip()
    return given[:80] or str(request.app.state.author)


def moment_of(
    at: Annotated[
        str | None,
        Query(
            max_length=40, description="A moment: “tue 14:00”, or a date and an hour. All times unless given."
        ),
    ] = None,
) -> Moment | None:
    """The moment that is looked at; None for all times (§12). Raises Refusal."""
    if at is None:
        return None
    try:
        return read_moment(at)
    except ValueError as error:
        raise Refusal(422, f"{error}.") from None


async def body_of(request: Request) -> bytes:
    """The body, read before the route runs in a thread of its own."""
    return await request.body()


async def _in_turn(request: Request) -> AsyncIterator[None]:
    """Wait until few others compute: every thread that does delays those that answer (they share the GIL)."""
    turns: Semaphore = request.app.state.turns
    async with turns:
        yield


IN_TURN = Depends(_in_turn, scope="function")
"""For routes that compute in this process before they answer."""
Body = Annotated[bytes, Depends(body_of)]
Author = Annotated[str, Depends(author_of)]
Store = Annotated[NetworkStore, _kept("store")]
Derived = Annotated[DerivedStates, _kept("derived")]
Computations = Annotated[Jobs, _kept("jobs")]
At = Annotated[Moment | None, Depends(moment_of)]
Version = Annotated[int, Depends(based_on)]
Results = Annotated[ResultStore, _kept("results")]
Rehearsals = Annotated[RehearsalStore, _kept("rehearsals")]
SeenKept = Annotated[SeenTrafficStore, _kept("seen")]
Traffic = Annotated[TrafficStore, _kept("traffic")]


async def contents_of(files: Iterable[UploadFile]) -> dict[str, bytes]:
    """What was sent, by the names of the files. Raises Refusal where two have one name."""
    found: dict[str, bytes] = {}
    for each in files:
        name = each.filename or "file"
        if name in found:
            raise Refusal(422, f"Two files are called “{name}”: send each under a name of its own.")
        found[name] = await each.read()
    return found
