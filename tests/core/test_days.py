"""Days that are written by their distance from today."""

from __future__ import annotations

import datetime

import pytest

from yeldro.core.model.relative_days import is_relative, resolve
from yeldro.core.model.schema import Family
from yeldro.core.model.values import read_given, read_value
from yeldro.errors import UsageError

TODAY = datetime.date(2026, 3, 31)


@pytest.mark.parametrize(
    ("text", "day"),
    [
        ("today", "2026-03-31"),
        ("today - 90 days", "2025-12-31"),
        (" Today+1 day ", "2026-04-01"),
        ("today - 1 month", "2026-02-28"),
        ("today - 13 months", "2025-02-28"),
        ("first of month - 1 month", "2026-02-01"),
        ("first of month - 1 month - 2 days", "2026-01-30"),
        ("first of year - 2 years + 1 week", "2024-01-08"),
        ("today - 25 months + 1 day", "2024-03-01"),
    ],
)
def test_a_relative_day(text: str, day: str) -> None:
    assert is_relative(text)
    assert str(resolve(text, TODAY)) == day


@pytest.mark.parametrize("text", ["", "2026-03-31", "today - days", "today -90", "yesterday today"])
def test_another_text_is_none(text: str) -> None:
    assert not is_relative(text)


@pytest.mark.parametrize("text", ["today - 99999 years", "today + 99999 months", "today x"])
def test_a_day_beyond_the_calendar_is_an_error(text: str) -> None:
    with pytest.raises(ValueError, match="day"):
        resolve(text, TODAY)


def test_only_a_parameter_may_be_relative() -> None:
    """A key or a line of a file may hold the word as data, or by mistake."""
    assert read_given("today", Family.DATE, "day") == datetime.date.today()
    for family in (Family.DATE, Family.TIMESTAMP):
        with pytest.raises(UsageError, match="not a valid"):
            read_value("today", family, "keys.csv, line 2")
    assert read_given("today", Family.TEXT, "word") == "today"
