"""References that the schema does not declare but the names, types and values suggest."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from functools import partial

from msgspec import Struct

from yeldro.core.database.connection import Database
from yeldro.core.model.schema import Column, Schema, Table
from yeldro.errors import NotAllowed

# Each one costs a look through a table.
MOST = 20
# Not all of them: an undeclared reference has orphans, for nothing keeps it.
SHARE = 0.9


class Likely(Struct, frozen=True, eq=False):
    """`fitting` of `distinct` different values of a column stand in a unique column of another
    table."""

    child: Table
    column: Column
    parent: Table
    referred: Column
    distinct: int
    fitting: int

    def __str__(self) -> str:
        return f"{self.child.label}.{self.column.name} -> {self.parent.label}.{self.referred.name}"


def find_likely(database: Database, children: Sequence[Table] | None = None) -> list[Likely]:
    """References that are likely by name and type, and by 90 % of the different values: those of
    all tables, or of some. At most 20 are tried."""
    found = []
    candidates = [
        one for one in _candidates(database.schema) if children is None or one[0] in children
    ]
    for child, column, parent, referred in candidates[:MOST]:
        try:
            distinct, fitting = database.attempt(
                partial(database.count_fitting, child, column.name, parent, referred.name)
            )
        except NotAllowed:
            continue
        if distinct and fitting >= SHARE * distinct:
            found.append(Likely(child, column, parent, referred, distinct, fitting))
    return found


def _candidates(schema: Schema) -> Iterator[tuple[Table, Column, Table, Column]]:
    tables = [
        table
        for table in schema.tables
        if table.kind == "table" and table.name not in schema.partitions
    ]
    declared = {
        (reference.child, name) for reference in schema.references for name in reference.columns
    }
    for child in tables:
        for column in child.columns:
            if (child, column.name) in declared or (column.name,) == child.key:
                continue
            for parent in tables:
                for referred in _unique_columns(parent):
                    if parent is not child and _is_named_after(column, parent, referred):
                        yield child, column, parent, referred


def _unique_columns(table: Table) -> list[Column]:
    names = {
        index.columns[0] for index in table.indexes if index.unique and len(index.columns) == 1
    }
    return [column for column in table.columns if column.name in names]


def _is_named_after(column: Column, parent: Table, referred: Column) -> bool:
    """`station_code` after `stations.code`, `weir` after `weirs.id`: the table in the singular,
    with or without."""
    name, table = column.name.lower(), parent.name.name.lower()
    stems = {
        table,
        table.removesuffix("s"),
        table.removesuffix("es"),
        table.removesuffix("ies") + "y",
    }
    wanted = {f"{stem}_{referred.name.lower()}" for stem in stems} | (
        stems if (referred.name,) == parent.key else set()
    )
    return column.family is referred.family and name in wanted
