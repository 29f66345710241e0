"""Days that are written by their distance from today: `today - 90 days`, or `first of month - 1
month`."""

from __future__ import annotations

import calendar
import datetime
import re
from functools import cache

_WRITTEN = re.compile(
    r"\s*(today|first of month|first of year)"
    r"((?:\s*[+-]\s*\d{1,5}\s*(?:day|week|month|year)s?)*)\s*",
    re.IGNORECASE,
)
_STEP = re.compile(r"([+-])\s*(\d+)\s*(day|week|month|year)", re.IGNORECASE)


@cache
def find_today() -> datetime.date:
    """The day on the clock of this machine when it is first asked for: a command that goes on after
    midnight means the same day to its end."""
    return datetime.date.today()


def is_relative(text: str) -> bool:
    return _WRITTEN.fullmatch(text) is not None


def resolve(text: str, today: datetime.date) -> datetime.date:
    """The day that is meant. The last day of a shorter month stands for those that it has not.
    ValueError for another text, and beyond the calendar."""
    found = _WRITTEN.fullmatch(text)
    if not found:
        raise ValueError("it is not a day that is written so")
    start = found[1].lower()
    day = today
    if start == "first of month":
        day = today.replace(day=1)
    elif start == "first of year":
        day = today.replace(month=1, day=1)
    for sign, number, unit in _STEP.findall(found[2]):
        day = _move(day, int(sign + number), unit.lower())
    return day


def _move(day: datetime.date, number: int, unit: str) -> datetime.date:
    try:
        if unit in ("day", "week"):
            return day + datetime.timedelta(days=number * (7 if unit == "week" else 1))
        months = day.year * 12 + day.month - 1 + number * (12 if unit == "year" else 1)
        year, month = months // 12, months % 12 + 1
        return day.replace(
            year=year, month=month, day=min(day.day, calendar.monthrange(year, month)[1])
        )
    except (OverflowError, ValueError):
        raise ValueError("there is no such day in the calendar") from None
