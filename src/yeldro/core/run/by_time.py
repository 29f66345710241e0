"""What goes and what stays over time."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from msgspec import Struct

from yeldro.core.database.connection import Database
from yeldro.core.model.key_set import KeySet
from yeldro.core.model.schema import Column, Family, Table
from yeldro.core.selection.selection import Selection
from yeldro.errors import UsageError

# Letters of a day as a text: its year, its month, all of it.
_YEAR, _MONTH, _DAY = 4, 7, 10
# So many months have a line each; fewer than that many are told by day.
_MOST_MONTHS, _FEW_MONTHS = 48, 2


class Period(Struct, frozen=True):
    """A day, month or year, or "" where there is none, with the rows that go and those that
    stay."""

    name: str
    goes: int
    stays: int


class ByTime(Struct, frozen=True):
    column: str
    periods: tuple[Period, ...]


def find_time_column(table: Table, name: str) -> Column:
    """UsageError for a column that holds neither days nor moments. In SQLite texts may be both."""
    column = table.find_column(name)
    if column.family not in (Family.DATE, Family.TIMESTAMP, Family.TEXT):
        raise UsageError(f"{column.name} of {table.label} holds no days or moments.")
    return column


def find_compared(selection: Selection) -> str:
    """The first column of days or moments that a selection looks at, "" where there is none."""
    columns = (selection.table.column(name) for name in selection.columns)
    times = (one.name for one in columns if one.family in (Family.DATE, Family.TIMESTAMP))
    return next(times, "")


def count_by_time(database: Database, keys: KeySet, name: str) -> ByTime:
    """Inside the open transaction: by month, or by year where there are many of these, or by day
    where there are few."""
    column = find_time_column(keys.table, name)
    every = database.count_by_prefix(keys.table, column.name, _MONTH, None)
    length = _MONTH
    months = sum(1 for _ in _fill(sorted(every)))
    if months > _MOST_MONTHS:
        length = _YEAR
    elif months <= _FEW_MONTHS:
        length = _DAY
    if length == _DAY:
        every = database.count_by_prefix(keys.table, column.name, length, None)
    going = database.count_by_prefix(keys.table, column.name, length, keys)
    return ByTime(column.name, tuple(_merge(_shorten(every, length), going)))


def _shorten(rows: Mapping[str, int], length: int) -> dict[str, int]:
    found: dict[str, int] = {}
    for name, count in rows.items():
        found[name[:length]] = found.get(name[:length], 0) + count
    return found


def _merge(every: Mapping[str, int], going: Mapping[str, int]) -> Iterator[Period]:
    for name in _fill(sorted(every)):
        goes = going.get(name, 0)
        yield Period(name, goes, every.get(name, 0) - goes)


def _fill(names: list[str]) -> Iterator[str]:
    """Months and years without rows are there too."""
    for name, following in zip(names, [*names[1:], ""], strict=True):
        yield name
        while (name := _next(name)) and name < following:
            yield name


def _next(name: str) -> str:
    """The month, or year, after one; "" after what is neither."""
    year, _, month = name.partition("-")
    if len(year) != _YEAR or not year.isdecimal() or year == "9999":
        return ""
    if not month:
        return f"{int(year) + 1:04}"
    if len(name) != _MONTH or not month.isdecimal():
        return ""
    return f"{int(year) + 1:04}-01" if int(month) >= 12 else f"{year}-{int(month) + 1:02}"
