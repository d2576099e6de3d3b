"""Who works things out for a command: this process, or the workers of a scheduler."""

from collections.abc import Iterator
from contextlib import contextmanager
from typing import Annotated

import typer

from greyheron.cli.reading import CannotGoOn
from greyheron.compute.derived import DerivedState
from greyheron.compute.pooled import RemoteState
from greyheron.compute.tasks import WorkerPool
from greyheron.model.document import Network

Scheduler = Annotated[
    str | None,
    typer.Option(
        "--scheduler",
        metavar="ADDRESS",
        envvar="GREY_HERON_SCHEDULER",
        help="Run long computations on this scheduler's workers: tcp://NAME:PORT (see docs/running.md).",
    ),
]


def pool_of(scheduler: str) -> WorkerPool:
    """The workers of a scheduler. Raises CannotGoOn and WorkersGone."""
    try:
        from greyheron.compute.cluster import Cluster
    except ModuleNotFoundError as error:
        if error.name is None or error.name.startswith("greyheron"):
            raise
        raise CannotGoOn(
            f"--scheduler needs {error.name}, which is not installed: install grey-heron[cluster]."
        ) from None
    return Cluster(scheduler)


@contextmanager
def derived_state(network: Network, scheduler: str | None) -> Iterator[DerivedState]:
    """Where everything about a network is asked. Raises CannotGoOn and WorkersGone."""
    if scheduler is None:
        yield DerivedState()
        return
    pool = pool_of(scheduler)
    try:
        yield RemoteState(f"file {network.name}", pool)
    finally:
        pool.close()
