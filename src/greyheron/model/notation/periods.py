"""Windows and moments as they are written: `mon-fri 08:00-18:00`, `tue 14:00` (§12)."""

import re
from datetime import date, datetime, timedelta

from greyheron.model.notation.line import NotationLine, Option
from greyheron.model.notation.terms import NAME
from greyheron.model.period import DAYS, MINUTES, DatedWindow, During, Moment, WeeklyWindow, Window

_CLOCK = re.compile(r"([0-9]{1,2}):([0-9]{2})")
_DATED = re.compile(r"([0-9-]+) ([0-9:]+) to ([0-9-]+) ([0-9:]+)")
MOMENT_OPTIONS = (
    *(Option(day, "this day of an ordinary week; an hour follows") for day in DAYS),
    Option("2026-12-25", "a date; an hour follows", literal=False),
)


def read_window(text: str) -> Window:
    """One window. Raises ValueError with a sentence."""
    text = " ".join(text.lower().split())
    dated = _DATED.fullmatch(text)
    if dated is not None:
        first, end = (_time(dated[at], dated[at + 1]) for at in (1, 3))
        if end <= first:
            raise ValueError(f"“{text}” ends before it begins")
        return DatedWindow(first, end)
    days, _, hours = text.partition(" ")
    if not hours:
        return WeeklyWindow(_days(days), 0, MINUTES)
    low, dash, high = hours.partition("-")
    if not dash:
        raise ValueError(f"“{hours}” is no time of day: write 08:00-18:00")
    start, last = _minute(low), _minute(high)
    if start in (MINUTES, last):
        raise ValueError(
            f"“{hours}” is no time of day: it must begin before midnight and end at another hour"
        )
    return WeeklyWindow(_days(days), start, last)


def read_moment(text: str) -> Moment:
    """A day or a date, and an hour. Raises ValueError with a sentence."""
    day, space, hour = text.strip().lower().partition(" ")
    if not space:
        raise ValueError(f"“{text}” needs an hour: write {day or 'tue'} 14:00")
    minute = _minute(hour)
    if minute == MINUTES:
        raise ValueError("a day ends where the next one begins: write its 00:00")
    if day in DAYS:
        return Moment(DAYS.index(day), minute)
    return Moment.at(_date(day) + timedelta(minutes=minute))


def take_moment(line: NotationLine) -> Moment | None:
    """`at` and a moment, if they stand here. Raises LineError."""
    if not line.take("at", "at this moment only; left out, at every moment that matters"):
        return None
    day = line.value(_read_day, *MOMENT_OPTIONS)
    return line.value(lambda hour: read_moment(f"{day} {hour}"), Option("14:00", "the hour", literal=False))


def take_during(line: NotationLine) -> During | None:
    """`during` and a period, or `!` and one, if they stand here. Raises LineError."""
    if not line.take("during", "only in a period, or with ! only outside it"):
        return None
    return line.value(_read_during, Option("%", "a period by name", literal=False))


def _read_during(word: str) -> During:
    name = word.removeprefix("!")
    if not NAME.fullmatch(name):
        raise ValueError(f"“{name}” is no name of a period")
    return During(name, outside=word.startswith("!"))


def _read_day(word: str) -> str:
    if word.lower() not in DAYS:
        _date(word)
    return word


def _days(text: str) -> tuple[int, ...]:
    if text == "daily":
        return tuple(range(len(DAYS)))
    found: set[int] = set()
    for part in text.split(","):
        first, dash, last = part.partition("-")
        if first not in DAYS or (dash and last not in DAYS):
            raise ValueError(f"“{part}” is no day: expected {', '.join(DAYS)}, mon-fri, daily, or a date")
        low, high = DAYS.index(first), DAYS.index(last or first)
        found.update(range(low, high + 1) if low <= high else [*range(low, len(DAYS)), *range(high + 1)])
    return tuple(sorted(found))


def _minute(text: str) -> int:
    """The minute of a day; 24:00 is its end."""
    found = _CLOCK.fullmatch(text)
    minute = int(found[1]) * 60 + int(found[2]) if found is not None else -1
    if found is None or int(found[2]) > 59 or minute > MINUTES:
        raise ValueError(f"“{text}” is no hour: write 00:00 to 24:00")
    return minute


def _date(text: str) -> datetime:
    try:
        found = date.fromisoformat(text)
    except ValueError:
        raise ValueError(
            f"“{text}” is no day: expected {', '.join(DAYS)}, or a date such as 2026-12-24"
        ) from None
    return datetime(found.year, found.month, found.day)


def _time(day: str, hour: str) -> datetime:
    try:
        return _date(day) + timedelta(minutes=_minute(hour))
    except OverflowError:
        raise ValueError(f"“{day}” is too late a date") from None
