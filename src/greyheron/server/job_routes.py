"""Long computations, whatever they are about: how far they are, and an end to them."""

from typing import Annotated, Any

from fastapi import APIRouter, Query

from greyheron.server.dependencies import PROBLEMS, Computations
from greyheron.server.jobs import Working

router = APIRouter(prefix="/api", responses=PROBLEMS)


@router.get("/jobs/{job_id}")
def job_so_far(job_id: str, jobs: Computations, known: Annotated[int, Query(ge=0)] = 0) -> Working[Any]:
    """How far a computation is, or its result, which is what the request that began it says.

    known:  as it was told last: what is known early is told again only where it is more
    """
    return jobs.told(job_id, known)


@router.delete("/jobs/{job_id}", status_code=204)
def cancel_job(job_id: str, jobs: Computations) -> None:
    """Stop a computation that nobody waits for any more."""
    jobs.cancel(job_id)
