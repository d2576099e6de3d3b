"""Findings in routes that are written down: those that cannot be used as things stand."""

from collections.abc import Iterator

from greyheron.analysis.findings.finding import Finding, SearchGround, Severity
from greyheron.analysis.presentation.steps import route_words
from greyheron.core.routing.table import Origin
from greyheron.model.values import Family

_WRITTEN = (Origin.STATIC, Origin.GATEWAY)


def in_routes(ground: SearchGround) -> Iterator[Finding]:
    """Static routes and gateways by which nothing is sent, since where they lead cannot be reached (§2)."""
    for device in ground.network.devices:
        if device.traits.bridges:
            continue
        for family in Family:
            table = ground.world.table(device.name, family)
            for route in table.routes:
                why = table.unusable(route) if route.origin in _WRITTEN else None
                if why is not None:
                    words = route_words(route, family)
                    yield Finding(
                        "route that cannot be used",
                        Severity.WARNING,
                        f"{device.name}: {words}",
                        f"{device.name} never uses the route {words}: {why}.",
                        devices=(device.name,),
                    )
