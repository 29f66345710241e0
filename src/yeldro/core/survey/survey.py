"""What is in a database: per table its rows, key, references and triggers; for a chosen one also
what it holds."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from contextlib import suppress
from itertools import combinations

from msgspec import Struct

from yeldro.core.cautions.caution import Caution
from yeldro.core.cautions.of_schema import find_schema_cautions, undeclared_reference
from yeldro.core.cautions.undeclared import find_likely
from yeldro.core.database.abilities import Row
from yeldro.core.database.column_profile import ColumnProfile, Odd
from yeldro.core.database.connection import Database
from yeldro.core.model.schema import Column, Reference, Table
from yeldro.errors import NotAllowed

# A few rows tell what a table is about.
SAMPLE = 5
# Pairs of columns grow with the square of their number, and each one is a sort of the table.
MOST_PAIRS = 30


class Close(Struct, frozen=True, eq=False):
    """A close look at one table: its columns with what they hold, a few rows, the column sets that
    are unique, and by column how many values are of another kind than its type speaks of."""

    columns: tuple[tuple[Column, ColumnProfile], ...]
    sample: tuple[Row, ...]
    unique: tuple[tuple[str, ...], ...]
    odd: Mapping[str, Mapping[Odd, int]]


class TableSurvey(Struct, frozen=True, eq=False):
    """`rows` is None for a view, which is not counted in the overview, and for a table that the
    account may not read."""

    table: Table
    rows: int | None
    references: tuple[Reference, ...]
    referenced_by: tuple[Reference, ...]
    cautions: tuple[Caution, ...]
    close: Close | None = None


def find_survey(database: Database, tables: Sequence[Table], *, closely: bool) -> list[TableSurvey]:
    """Survey some tables, closely or not."""
    likely: dict[Table, list[Caution]] = {}
    for one in find_likely(database, tables):
        likely.setdefault(one.child, []).append(
            undeclared_reference(str(one), one.distinct, one.fitting)
        )
    return [_survey(database, table, closely, likely.get(table, [])) for table in tables]


def _survey(
    database: Database, table: Table, closely: bool, likely: Sequence[Caution]
) -> TableSurvey:
    rows = None
    if closely:
        rows = database.count_rows(table)
    elif table.kind != "view":
        # One table that this account may not read does not hide the others.
        with suppress(NotAllowed):
            rows = database.attempt(lambda: database.count_rows(table))
    return TableSurvey(
        table,
        rows,
        tuple(reference for reference in database.schema.references if reference.child is table),
        tuple(reference for reference in database.schema.references if reference.parent is table),
        (*find_schema_cautions(database.schema, table), *likely),
        _look_closely(database, table, rows) if closely and rows is not None else None,
    )


def _look_closely(database: Database, table: Table, rows: int) -> Close:
    profiles = database.profile(table)
    return Close(
        tuple(zip(table.columns, profiles, strict=True)),
        tuple(database.first_rows(table, SAMPLE)),
        tuple(
            names
            for names, distinct in find_distinct(database, table, rows, profiles)
            if distinct == rows
        )
        if rows > 1
        else (),
        database.find_odd(table),
    )


def find_distinct(
    database: Database, table: Table, rows: int, profiles: Sequence[ColumnProfile]
) -> Iterator[tuple[tuple[str, ...], int]]:
    """How many different values columns without NULLs hold, and pairs of those that are not unique
    by themselves.

    At most MOST_PAIRS pairs are counted, those with the most different values first.
    """
    known = zip(table.column_names, profiles, strict=True)
    full = [
        (name, one.distinct) for name, one in known if not one.nulls and one.distinct is not None
    ]
    yield from (((name,), distinct) for name, distinct in full)
    rest = [(name, distinct) for name, distinct in full if distinct < rows]
    pairs = [
        (a[1] * b[1], (a[0], b[0]))
        for a, b in combinations(rest, 2)
        if a[1] * b[1] >= rows and min(a[1], b[1]) > 1
    ]
    for _, pair in sorted(pairs, key=lambda entry: -entry[0])[:MOST_PAIRS]:
        yield pair, database.count_distinct(table, pair)
