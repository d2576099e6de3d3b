"""When which entries are there: borders of windows cut time into finitely many spans (§12)."""

from collections.abc import Iterable, Iterator
from datetime import datetime, timedelta
from itertools import pairwise

from msgspec import Struct

from greyheron.model.document import Network, Period
from greyheron.model.period import DAYS, MINUTES, SUPPOSITIONS, DatedWindow, Moment, WeeklyWindow

WEEK = len(DAYS) * MINUTES


class Span(Struct, frozen=True):
    """All times at which the same periods are on.

    active:  those of them that some entry speaks of;  moment:  one such time
    """

    active: frozenset[str]
    moment: Moment
    words: str


def active_at(network: Network, moment: Moment) -> frozenset[str]:
    """The periods that a moment is in."""
    return frozenset(
        period.name for period in network.periods if any(window.holds(moment) for window in period.windows)
    )


def used_periods(network: Network) -> frozenset[str]:
    """The periods that some entry or requirement speaks of, with SUPPOSITIONS where lists rest on some."""
    said = (requirement.statement.during for requirement in network.requirements)
    asked = frozenset(during.period for during in said if during is not None)
    return asked.union(*(access_list.body.periods for access_list in network.lists))


def spans_of(network: Network) -> tuple[Span, ...]:
    """Every span in which other entries are there, ordinary weeks first; one where none depends on time.

    Where something is not known each is there for each supposition.
    """
    used = used_periods(network)
    return tuple(each for time in times_of(network) for each in supposed(time.active, time.moment, used))


def times_of(network: Network) -> tuple[Span, ...]:
    """The spans by time alone, whatever is not known."""
    used = used_periods(network) - frozenset(SUPPOSITIONS)
    periods = [period for period in network.periods if period.name in used]
    found: dict[frozenset[str], Moment] = {}
    for moment in _moments(periods):
        found.setdefault(active_at(network, moment) & used, moment)
    return tuple(Span(active, moment, span_words(active, used)) for active, moment in found.items())


def supposed(active: frozenset[str], moment: Moment, used: frozenset[str]) -> Iterator[Span]:
    """The times while those periods are on: where something is not known, whatever may be so."""
    for supposition in [frozenset({each}) for each in SUPPOSITIONS if each in used] or [frozenset[str]()]:
        on = active | supposition
        yield Span(on, moment, span_words(on, used))


def span_words(active: frozenset[str], used: frozenset[str]) -> str:
    """“during open-hours”, “outside open-hours”, “if what is not known denies”."""
    supposition = next(iter(active & frozenset(SUPPOSITIONS)), None)
    if supposition is not None:
        known = used - frozenset(SUPPOSITIONS)
        return f"{span_words(active - {supposition}, known)} {supposition}" if known else supposition
    if not used:
        return "at all times"
    if active:
        return f"during {' and '.join(sorted(active))}"
    return f"outside {' and '.join(sorted(used))}"


def _moments(periods: Iterable[Period]) -> Iterator[Moment]:
    """One moment between any two borders: of an ordinary week, and of each run of dates."""
    windows = [window for period in periods for window in period.windows]
    weekly = {0}
    for window in windows:
        if isinstance(window, WeeklyWindow):
            weekly |= {edge % WEEK for span in window.spans for edge in span}
    for edge in sorted(weekly):
        yield Moment(*divmod(edge, MINUTES))
    dated = sorted(
        {edge for window in windows if isinstance(window, DatedWindow) for edge in (window.first, window.end)}
    )
    for first, end in pairwise(dated):
        yield from (Moment.at(time) for time in _between(first, end, weekly))


def _between(first: datetime, end: datetime, weekly: Iterable[int]) -> Iterator[datetime]:
    """The first moment, and every weekly border before the end, as far as a week goes."""
    yield first
    began = first - timedelta(minutes=Moment.at(first).of_week)
    for week in (0, 1):
        for edge in sorted(weekly):
            time = began + timedelta(minutes=edge + week * WEEK)
            if first < time < min(end, first + timedelta(days=len(DAYS))):
                yield time
