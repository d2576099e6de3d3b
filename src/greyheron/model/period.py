"""Periods and moments, as values (§12): named sets of windows, and points in time to look at."""

from datetime import date, datetime, timedelta

from msgspec import Struct

DAYS = ("mon", "tue", "wed", "thu", "fri", "sat", "sun")
MINUTES = 24 * 60
"""In a day."""


class Moment(Struct, frozen=True):
    """A point in the network's own time: of a date, or of a day in any ordinary week.

    day:  0 for Monday;  minute:  of that day;  on:  its date; None in an ordinary week: no dated window is on
    """

    day: int
    minute: int
    on: date | None = None

    @property
    def of_week(self) -> int:
        """Minutes since Monday began."""
        return self.day * MINUTES + self.minute

    @property
    def time(self) -> datetime | None:
        """Date and hour, where it has a date."""
        if self.on is None:
            return None
        return datetime(self.on.year, self.on.month, self.on.day) + timedelta(minutes=self.minute)

    @classmethod
    def at(cls, time: datetime) -> "Moment":
        """That of a date and hour; seconds do not count."""
        return cls(time.weekday(), time.hour * 60 + time.minute, time.date())

    def __str__(self) -> str:
        day = DAYS[self.day] if self.on is None else self.on.isoformat()
        return f"{day} {clock(self.minute)}"


def clock(minute: int) -> str:
    """“08:00”; the end of a day is “24:00”."""
    return f"{minute // 60:02}:{minute % 60:02}"


class WeeklyWindow(Struct, frozen=True):
    """Some hours of some days; past midnight where it ends no later than it begins.

    days:  0 for Monday, rising;  first, end:  minutes of the day, the end not included
    """

    days: tuple[int, ...]
    first: int
    end: int

    @property
    def spans(self) -> list[tuple[int, int]]:
        """Minutes of the week, ends not included; one that runs over the week's end is two."""
        long = (self.end - self.first) if self.end > self.first else self.end - self.first + MINUTES
        found: list[tuple[int, int]] = []
        week = len(DAYS) * MINUTES
        for day in self.days:
            low = day * MINUTES + self.first
            found.append((low, min(low + long, week)))
            if low + long > week:
                found.append((0, low + long - week))
        return found

    def holds(self, moment: Moment) -> bool:
        return any(low <= moment.of_week < end for low, end in self.spans)

    def __str__(self) -> str:
        whole = (self.first, self.end) == (0, MINUTES)
        return _days_words(self.days) + ("" if whole else f" {clock(self.first)}-{clock(self.end)}")


class DatedWindow(Struct, frozen=True):
    """From one date and hour to another one, which is not included."""

    first: datetime
    end: datetime

    def holds(self, moment: Moment) -> bool:
        return moment.time is not None and self.first <= moment.time < self.end

    def __str__(self) -> str:
        return f"{self.first:%Y-%m-%d %H:%M} to {self.end:%Y-%m-%d %H:%M}"


Window = WeeklyWindow | DatedWindow


def _days_words(days: tuple[int, ...]) -> str:
    if len(days) == len(DAYS):
        return "daily"
    if len(days) > 2 and days[-1] - days[0] == len(days) - 1:
        return f"{DAYS[days[0]]}-{DAYS[days[-1]]}"
    return ",".join(DAYS[day] for day in days)


IF_PERMITTED = "if what is not known permits"
IF_DENIED = "if what is not known denies"
"""What stands among the periods that are on for entries of which nobody knows whether they are there (§3)."""
SUPPOSITIONS = (IF_DENIED, IF_PERMITTED)


class During(Struct, frozen=True):
    """When an entry is there: in a period, or outside it."""

    period: str
    outside: bool = False

    def holds(self, active: frozenset[str]) -> bool:
        """active:  the periods that a moment is in"""
        return (self.period in active) is not self.outside

    def __str__(self) -> str:
        return f"{'!' * self.outside}{self.period}"
