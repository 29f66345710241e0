"""Columns that are unique but for a few rows, and rows that are alike."""

from __future__ import annotations

import re
from collections.abc import Sequence

from yeldro.core.database.connection import Database
from yeldro.core.duplicates.proposals import FEW
from yeldro.core.duplicates.request import Nulls, read_duplicates
from yeldro.core.findings.finding import Finding, Way
from yeldro.core.model.fact import fact
from yeldro.core.model.schema import Family, Schema, Table
from yeldro.core.selection.grouping import Grouping
from yeldro.core.selection.selection import Asked

# In fewer rows a column is easily almost unique by chance.
FEWEST = 5
LOOSELY = ("case", "space")
# What can be meant to be unique: days, measures and truths repeat by their nature.
_NAMING = (Family.TEXT, Family.INTEGER)


def list_naming(table: Table) -> list[str]:
    """Columns that may name a row and are not unique already."""
    unique = {index.columns for index in table.indexes if index.unique}
    return [
        column.name
        for column in table.columns
        if column.family in _NAMING and (column.name,) not in unique and not column.generated
    ]


def list_texts(table: Table) -> list[str]:
    """Columns of texts, unique or not."""
    return [column.name for column in table.columns if column.family is Family.TEXT]


def list_occasions(schema: Schema, table: Table) -> list[tuple[str, str]]:
    """What often happens once by nature: one row for each row of another table and moment, such as
    a reading of a sensor."""
    sources = [one.columns[0] for one in schema.outgoing(table) if len(one.columns) == 1]
    moments = [one.name for one in table.columns if one.family in (Family.DATE, Family.TIMESTAMP)]
    unique = [frozenset(index.columns) for index in table.indexes if index.unique]
    pairs = [(source, moment) for source in dict.fromkeys(sources) for moment in moments]
    return [pair for pair in pairs if not any(one <= {*pair} for one in unique)]


def is_almost_unique(values: int, distinct: int) -> bool:
    return distinct < values and may_be_unique(values, distinct)


def may_be_unique(values: int, distinct: int) -> bool:
    """Whether a column of texts may be almost unique once case and spaces do not count."""
    return values >= FEWEST and values - distinct <= FEW * values


def list_alike(table: Table) -> tuple[str, ...]:
    """The columns in which rows would be alike by mistake: all of them where nothing is unique,
    else all but the key; () where that would be no mistake."""
    if not any(index.unique for index in table.indexes):
        return ("all",)
    unique = {name for index in table.indexes if index.unique for name in index.columns}
    rest = tuple(name for name in table.column_names if name not in table.key)
    # With one column left, or with another one that is unique, rows are alike by nature, or never.
    return rest if len(rest) > 1 and not unique - set(table.key) and len(table.key) == 1 else ()


def read_sameness(
    database: Database,
    asked: Asked,
    same: Sequence[str],
    *,
    loosely: bool = False,
    nulls_are_same: bool = False,
) -> Grouping:
    """Which of the rows that are asked for are the same."""
    nulls = Nulls.SAME if nulls_are_same else Nulls.DIFFERENT
    ignored = LOOSELY if loosely else ()
    names = [write_same(name) for name in same]
    schema, dialect = database.schema, database.dialect
    return read_duplicates(schema, dialect, asked, names, nulls=nulls, ignore=ignored)


def almost_unique(
    table: Table, columns: Sequence[str], rows: int, *, loosely: bool = False
) -> Finding:
    kind = "finding.almost-unique.loosely" if loosely else "finding.almost-unique"
    options = {
        "same": ",".join(map(write_same, columns)),
        "ignore": ",".join(LOOSELY if loosely else ()),
    }
    found = fact(kind, columns=" + ".join(columns), columns_number=len(columns), rows=rows)
    return Finding(rows, found, Way("duplicates", table, options))


def alike(table: Table, same: Sequence[str], rows: int) -> Finding:
    whole = tuple(same) == ("all",)
    found = fact("finding.alike" if whole else "finding.alike.but-the-key", rows=rows)
    options = {"same": ",".join(map(write_same, same))}
    if not whole:
        options["nulls"] = "same"
    return Finding(rows, found, Way("duplicates", table, options))


def write_same(name: str) -> str:
    """A column as --same has it."""
    return name if re.fullmatch(r"\w+", name) else f'"{name}"'
