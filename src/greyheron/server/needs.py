"""What routes ask for: the stores, what was worked out before, and the version that a write is based on."""

from typing import Annotated, Any

from fastapi import Depends, Header, Request

from greyheron.server.bench import Bench
from greyheron.server.jobs import Jobs
from greyheron.server.problems import ProblemDocument, Refusal
from greyheron.store.networks import NetworkStore
from greyheron.store.results import ResultStore
from greyheron.store.traffic import TrafficStore

PROBLEMS: dict[int | str, dict[str, Any]] = {
    status: {"model": ProblemDocument} for status in (404, 409, 412, 422, 428)
}


def store_of(request: Request) -> NetworkStore:
    store: NetworkStore = request.app.state.store
    return store


def traffic_of(request: Request) -> TrafficStore:
    traffic: TrafficStore = request.app.state.traffic
    return traffic


def bench_of(request: Request) -> Bench:
    bench: Bench = request.app.state.bench
    return bench


def results_of(request: Request) -> ResultStore:
    results: ResultStore = request.app.state.results
    return results


def jobs_of(request: Request) -> Jobs:
    jobs: Jobs = request.app.state.jobs
    return jobs


def based_on(if_match: Annotated[str | None, Header()] = None) -> int:
    """The version that a write is based on, from If-Match (RFC 9110 13.1.1)."""
    if if_match is None:
        raise Refusal(428, "Say which version this write is based on: send If-Match with the network's ETag.")
    version = if_match.strip().strip('"')
    if not version.isdigit():
        raise Refusal(422, f'If-Match is “{if_match}”: expected the ETag of the network, such as "7".')
    return int(version)


Store = Annotated[NetworkStore, Depends(store_of)]
Workings = Annotated[Bench, Depends(bench_of)]
Computations = Annotated[Jobs, Depends(jobs_of)]
Version = Annotated[int, Depends(based_on)]
Results = Annotated[ResultStore, Depends(results_of)]
Traffic = Annotated[TrafficStore, Depends(traffic_of)]
