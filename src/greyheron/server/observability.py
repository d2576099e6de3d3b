"""Whether the server is well: each request logged and counted, a health check, metrics for Prometheus."""

from secrets import token_hex
from time import perf_counter

from fastapi import APIRouter, FastAPI, Response
from prometheus_client import CollectorRegistry, Counter, Histogram, ProcessCollector, generate_latest
from prometheus_client.core import GaugeMetricFamily, Metric
from prometheus_client.exposition import CONTENT_TYPE_LATEST
from prometheus_client.registry import Collector
from starlette.datastructures import MutableHeaders
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from greyheron import __version__
from greyheron.server.logs import log, request_id

HEALTH, METRICS = "/health", "/metrics"
BUCKETS = (0.005, 0.02, 0.05, 0.1, 0.3, 1, 3, 10, 60)


class Watching:
    """ASGI middleware: gives each request an id, which its answer carries; logs, counts and times it."""

    def __init__(self, app: ASGIApp, registry: CollectorRegistry) -> None:
        self._app = app
        self._answers = Counter(
            "grey_heron_answers", "Answers by status.", ["method", "status"], registry=registry
        )
        self._seconds = Histogram(
            "grey_heron_answer_seconds",
            "Seconds until an answer was sent.",
            ["method"],
            registry=registry,
            buckets=BUCKETS,
        )

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self._app(scope, receive, send)
            return
        own, began, status = token_hex(4), perf_counter(), 0
        token = request_id.set(own)

        async def sending(message: Message) -> None:
            nonlocal status
            if message["type"] == "http.response.start":
                status = message["status"]
                MutableHeaders(scope=message)["X-Request-Id"] = own
            await send(message)

        try:
            await self._app(scope, receive, sending)
        finally:
            seconds = perf_counter() - began
            method = scope["method"] if scope["method"] in _METHODS else "OTHER"
            self._answers.labels(method, status).inc()
            self._seconds.labels(method).observe(seconds)
            told = {"method": scope["method"], "path": scope["path"], "status": status, "seconds": seconds}
            text = f"{scope['method']} {scope['path']} {status} {1000 * seconds:.0f} ms"
            log.info(text.encode("unicode_escape").decode("ascii"), extra={"told": told})
            request_id.reset(token)


_METHODS = frozenset({"GET", "HEAD", "POST", "PUT", "PATCH", "DELETE", "OPTIONS"})


class _Gauges(Collector):
    """What the application holds at the moment it is asked."""

    def __init__(self, app: FastAPI) -> None:
        self._app = app

    def collect(self) -> list[Metric]:
        state = self._app.state
        waiting, running = state.jobs.counts()
        return [
            GaugeMetricFamily("grey_heron_networks", "Networks kept.", len(state.store.summaries())),
            GaugeMetricFamily("grey_heron_jobs_waiting", "Computations that wait for their turn.", waiting),
            GaugeMetricFamily("grey_heron_jobs_running", "Computations under way.", running),
            GaugeMetricFamily(
                "grey_heron_kept_bytes", "Bytes of what was worked out, estimated.", state.derived.nbytes
            ),
        ]


def watch(app: FastAPI, registry: CollectorRegistry) -> None:
    """Add the health check and the metrics to the application."""
    registry.register(_Gauges(app))
    ProcessCollector(registry=registry)
    router = APIRouter()

    @router.get(HEALTH, include_in_schema=False)
    def health() -> dict[str, str]:
        app.state.store.summaries()
        return {"status": "well", "version": __version__}

    @router.get(METRICS, include_in_schema=False)
    def metrics() -> Response:
        return Response(generate_latest(registry), media_type=CONTENT_TYPE_LATEST)

    app.include_router(router)
