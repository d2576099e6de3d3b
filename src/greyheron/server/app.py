"""The application: routes, errors, safety, and the built workbench."""

import getpass
import secrets
from asyncio import Semaphore
from collections.abc import AsyncIterator, Iterator
from contextlib import asynccontextmanager
from pathlib import Path

from fastapi import FastAPI
from fastapi.responses import FileResponse, HTMLResponse, Response
from fastapi.routing import APIRoute
from prometheus_client import CollectorRegistry
from sqlalchemy import Engine
from starlette.middleware.gzip import GZipMiddleware
from starlette.staticfiles import StaticFiles

from greyheron import __version__
from greyheron.compute.derived import MEMORY, DerivedStates
from greyheron.compute.pooled import RemoteState
from greyheron.compute.tasks import WorkerPool
from greyheron.server import problems
from greyheron.server.access import Access, Entrance, content_policy
from greyheron.server.book_routes import router as book_router
from greyheron.server.captured_routes import router as captured_router
from greyheron.server.device_routes import router as device_router
from greyheron.server.draft_routes import router as draft_router
from greyheron.server.export_routes import router as export_router
from greyheron.server.import_routes import router as import_router
from greyheron.server.job_routes import router as job_router
from greyheron.server.jobs import Jobs
from greyheron.server.observability import Watching, watch
from greyheron.server.packet_routes import router as packet_router
from greyheron.server.policy_routes import router as policy_router
from greyheron.server.problems import Refusal
from greyheron.server.reach_routes import router as reach_router
from greyheron.server.rehearsal_routes import router as rehearsal_router
from greyheron.server.routes import router
from greyheron.server.security import Safety
from greyheron.server.sending_routes import router as sending_router
from greyheron.server.tidy_routes import router as tidy_router
from greyheron.store.networks import NetworkStore
from greyheron.store.rehearsals import RehearsalStore
from greyheron.store.results import ResultStore
from greyheron.store.seen import SeenTrafficStore
from greyheron.store.traffic import TrafficStore

_LEVEL = 1
"""Answers are compressed quickly rather than well; files that are fetched once are compressed well."""
MOST_COMPUTING = 3
"""So many requests compute in this process at once; others wait without a thread."""
NONCE = "style-nonce-of-this-page"
"""Stands in the built page for the nonce that each answer has anew."""


def make_app(
    engine: Engine,
    access: Access,
    interface: Path | None,
    memory: int = MEMORY,
    pool: WorkerPool | None = None,
) -> FastAPI:
    """The whole server.

    interface:  the folder of the built workbench; None serves the API alone
    memory:  how many bytes of what was worked out are kept
    pool:  who does what is long, until the server ends; None: this process does it
    """
    app = FastAPI(
        title="Grey Heron",
        version=__version__,
        docs_url=None,
        redoc_url=None,
        openapi_url="/api/openapi.json",
        generate_unique_id_function=_route_name,
        lifespan=_until_closed,
    )
    app.state.store = NetworkStore(engine)
    app.state.traffic = TrafficStore(engine)
    app.state.rehearsals = RehearsalStore(engine)
    app.state.seen = SeenTrafficStore(engine)
    app.state.results = ResultStore(engine)
    app.state.pool = pool
    app.state.derived = _derived_states(memory, pool)
    app.state.jobs = Jobs()
    app.state.turns = Semaphore(MOST_COMPUTING)
    app.state.author = getpass.getuser()
    problems.install(app)
    registry = CollectorRegistry()
    watch(app, registry)
    app.include_router(router)
    app.include_router(draft_router)
    app.include_router(job_router)
    app.include_router(import_router)
    app.include_router(captured_router)
    app.include_router(export_router)
    app.include_router(device_router)
    app.include_router(sending_router)
    app.include_router(reach_router)
    app.include_router(book_router)
    app.include_router(policy_router)
    app.include_router(rehearsal_router)
    app.include_router(packet_router)
    app.include_router(tidy_router)
    app.add_api_route("/api/{path:path}", _no_such_route, include_in_schema=False, methods=["GET", "POST"])
    if interface is not None:
        _serve_interface(app, interface)
    app.add_middleware(GZipMiddleware, minimum_size=2000, compresslevel=_LEVEL)
    app.state.entrance = None if access.token is None else Entrance(access.token)
    app.add_middleware(Safety, access=access, entrance=app.state.entrance)
    app.add_middleware(Watching, registry=registry)
    return app


@asynccontextmanager
async def _until_closed(app: FastAPI) -> AsyncIterator[None]:
    """Long computations end with the server."""
    yield
    app.state.jobs.close()
    if app.state.pool is not None:
        app.state.pool.close()


def _derived_states(memory: int, pool: WorkerPool | None) -> DerivedStates:
    """What is worked out here, or here and by workers."""
    if pool is None:
        return DerivedStates(memory)
    return DerivedStates(memory // 2, lambda network_id: RemoteState(network_id, pool))


def _route_name(route: APIRoute) -> str:
    return route.name


def _no_such_route(path: str) -> None:
    raise Refusal(404, f"There is nothing at /api/{path}.")


def _serve_interface(app: FastAPI, folder: Path) -> None:
    """Files with a digest in their name for good; every other address is a view of the workbench."""
    app.mount("/assets", GZipMiddleware(_Immutable(directory=folder / "assets"), compresslevel=6))
    top_files = frozenset(_names(folder))

    shell = (folder / "index.html").read_text(encoding="utf-8")

    def page(path: str = "") -> Response:
        if path in top_files and path != "index.html":
            return FileResponse(folder / path)
        nonce = secrets.token_urlsafe(16)
        headers = {"Cache-Control": "no-store", "Content-Security-Policy": content_policy(nonce)}
        return HTMLResponse(shell.replace(NONCE, nonce), headers=headers)

    app.add_api_route("/{path:path}", page, include_in_schema=False, methods=["GET"])


def _names(folder: Path) -> Iterator[str]:
    return (file.name for file in folder.iterdir() if file.is_file())


class _Immutable(StaticFiles):
    def file_response(self, *args: object, **kwargs: object) -> FileResponse:
        response = super().file_response(*args, **kwargs)  # type: ignore[arg-type]
        response.headers["Cache-Control"] = "public, max-age=31536000, immutable"
        return response  # type: ignore[return-value]
