"""Where two traces of one flow part: the first step that is not the same in both."""

from collections.abc import Iterator
from dataclasses import dataclass
from itertools import zip_longest

from greyheron.analysis.presentation.report import ExchangeReport, TraceReport, deciding
from greyheron.core.packet import Way


@dataclass(frozen=True, slots=True)
class Divergence:
    """Two states, and the first step in which their traces differ.

    way, device:  on which way and where;  before, after:  the step in each, null where a trace is over
    """

    first: str
    second: str
    way: Way
    device: str
    before: str | None
    after: str | None


def parting(one: TraceReport, other: TraceReport) -> Divergence | None:
    """Where `other` stops being like `one`, on the path that explains each; None when they are the same."""
    for here, there in zip_longest(_steps(deciding(one.exchanges)), _steps(deciding(other.exchanges))):
        if here != there:
            way, device, _ = there or here
            return Divergence(
                one.state, other.state, way, device, here[2] if here else None, there[2] if there else None
            )
    return None


def _steps(exchange: ExchangeReport) -> Iterator[tuple[Way, str, str]]:
    for leg, way in ((exchange.out, Way.OUT), (exchange.home, Way.RETURN)):
        for hop in leg.hops if leg else ():
            for step in hop.steps:
                yield way, hop.device, step.text
