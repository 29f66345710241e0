"""SQLite's own statements, and the form in which it takes values."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date, datetime
from decimal import Decimal
from typing import Any

import sqlalchemy as sa
from msgspec.structs import replace

from yeldro.core.database.archive_format import Stage
from yeldro.core.model.key_set import KeyRange, KeySet
from yeldro.core.model.schema import Column, Reference, Table
from yeldro.core.model.values import Value
from yeldro.core.selection.selection import Selection
from yeldro.engines.shared.archive_statements import StageStatements
from yeldro.engines.shared.statements import Columns, Words, balanced, in_brackets
from yeldro.engines.sqlite.catalogue import affinity

# Affinities that turn a text into a number where it looks like one.

# Of so many rows one must go, that all of them are looked at.
_SPARSE = 8

_ONE: sa.ColumnElement[int] = sa.literal_column("1")


class SqliteStatements(StageStatements):
    def __init__(self) -> None:
        super().__init__("temp", adapt)

    def delete_selected(self, selection: Selection, keys: KeySet) -> sa.Executable:
        """From one row to another, if few others are among them: looking each of them up by its key
        takes 1.1 times as long."""
        if not isinstance(keys, KeyRange) or not keys.has_all or not keys.span:
            return super().delete_selected(selection, keys)
        first, last = keys.span
        if last - first > _SPARSE * (keys.last - keys.first):
            return super().delete_selected(selection, keys)
        low: sa.ColumnElement[int] = sa.literal_column(str(first))
        high: sa.ColumnElement[int] = sa.literal_column(str(last))
        among = self.table(keys.table).c[keys.columns[0]].between(low, high)
        wanted = self.is_selected(replace(selection, listed=None))
        return sa.delete(self.table(keys.table)).where(among, *wanted)

    def exact(self, column: sa.ColumnElement[Any]) -> sa.ColumnElement[Any]:
        return sa.collate(column, "BINARY")

    def sorted_as(self, cell: sa.ColumnElement[Any], column: Column) -> sa.ColumnElement[Any]:
        return sa.collate(cell, column.collation or "BINARY")

    def build_index(
        self, index: sa.TableClause, table: Table, cells: Columns, *, unique: bool = False
    ) -> Words:
        """Here the index names the schema, and the table must not."""
        verb = f"CREATE {'UNIQUE ' if unique else ''}INDEX"
        return Words(verb, index, "ON", sa.table(table.name.name), in_brackets(cells))

    def is_same(
        self, table: Table, names: Sequence[str], own: sa.FromClause, other: sa.FromClause
    ) -> sa.ColumnElement[bool]:
        """Compared without affinity, values of two types differ; only an integer and a real number
        may be equal, and these stand side by side only in a column without affinity."""
        parts: list[sa.ColumnElement[Any]] = []
        for name in names:
            one, two = own.c[name], other.c[name]
            parts.append(_plain(one).is_not_distinct_from(sa.collate(_plain(two), "BINARY")))
            if affinity(table.column(name).type) == "BLOB":
                parts.append(sa.func.typeof(one) == sa.func.typeof(two))
        return balanced("AND", parts)

    def image(
        self, table: Table, names: Sequence[str], clause: sa.FromClause
    ) -> sa.ColumnElement[str]:
        """hex() would cut the digits of a real number."""
        parts: list[sa.ColumnElement[Any]] = []
        for name in names:
            cell = clause.c[name]
            real = sa.func.printf(sa.literal_column("'%!.17g'"), cell)
            plain = sa.case(
                (sa.func.typeof(cell) == sa.literal_column("'real'"), real), else_=sa.func.hex(cell)
            )
            parts += [sa.func.typeof(cell), plain, sa.literal_column("','")]
        return balanced("||", parts)

    def digest(self, image: sa.ColumnElement[Any]) -> list[sa.ColumnElement[Any]]:
        """By a function of ours: SQLite has none for it."""
        return [sa.func.yeldro_digest(image)]

    def looked_up(self, cell: sa.ColumnElement[Any]) -> sa.ColumnElement[Any]:
        """A unary plus keeps SQLite from building an index on the stage
        (https://www.sqlite.org/optoverview.html)."""
        return _plain(cell)

    def insert_staged(self, stage: Stage) -> sa.Insert:
        """A table may ask to replace what is in the way: here it may not."""
        statement = super().insert_staged(stage)
        assert isinstance(statement, sa.Insert)
        return statement.prefix_with("OR ABORT")

    def lacks_identity(self, keys: KeySet) -> sa.ColumnElement[bool]:
        """NOT IN is several times faster here than NOT EXISTS, and identities hold no NULL."""
        return self.fails(self.has_identity(keys), keys.table.identity)

    def fails(self, test: sa.ColumnElement[bool], names: Sequence[str]) -> sa.ColumnElement[bool]:
        """Where several values together are not in a list, NOT IN goes through the whole of it, for
        NULLs that would make the answer unknown. A CASE does not ask for that."""
        if len(names) == 1:
            return sa.not_(test)
        return sa.case((test, sa.literal_column("0")), else_=_ONE) == _ONE

    def pointing(
        self, reference: Reference, rows: sa.FromClause | None = None
    ) -> list[sa.ColumnElement[Any]]:
        return _collated(reference, super().pointing(reference, rows))

    def seeking(
        self, reference: Reference, rows: sa.FromClause | None = None
    ) -> list[sa.ColumnElement[Any]]:
        """Where SQLite looks for a parent it gives the value the affinity of the referred column;
        where it looks for the children of a row that goes, it does not: the text '01' has the child
        1, which has no parent."""
        columns = super().pointing(reference, rows)
        for place, (own, referred) in enumerate(
            zip(reference.columns, reference.referred, strict=True)
        ):
            kind = affinity(reference.parent.column(referred).type)
            if kind in ("TEXT", "BLOB") and affinity(reference.child.column(own).type) != kind:
                columns[place] = (
                    _as_text(columns[place]) if kind == "TEXT" else _plain(columns[place])
                )
        return _collated(reference, columns)


def _collated(reference: Reference, columns: Columns) -> list[sa.ColumnElement[Any]]:
    """SQLite compares with the collation of the referred column
    (https://www.sqlite.org/foreignkeys.html, 3)."""
    referred = [reference.parent.column(name) for name in reference.referred]
    return [
        sa.collate(cell, there.collation or "BINARY")
        if affinity(there.type) in ("TEXT", "BLOB")
        else cell
        for cell, there in zip(columns, referred, strict=True)
    ]


def _as_text(cell: sa.ColumnElement[Any]) -> sa.ColumnElement[Any]:
    """A value as a column of texts would keep it: numbers become texts, and nothing else does."""
    is_number = sa.func.typeof(cell).in_(
        [sa.literal_column("'integer'"), sa.literal_column("'real'")]
    )
    return sa.case((is_number, sa.cast(cell, sa.Text)), else_=cell)


def _plain(cell: sa.ColumnElement[Any]) -> sa.ColumnElement[Any]:
    """A value without the affinity of its column."""
    return sa.sql.elements.UnaryExpression(
        cell, operator=sa.sql.operators.custom_op("+"), type_=cell.type
    )


def adapt(value: Value) -> Any:
    """A value in one of SQLite's own types: days and moments as ISO 8601 texts, truth as 0 or 1."""
    match value:
        case bool():
            return int(value)
        case datetime():
            return value.isoformat(" ")
        case date():
            return value.isoformat()
        case Decimal():
            return int(value) if value == value.to_integral_value() else float(value)
        case _:
            return value
