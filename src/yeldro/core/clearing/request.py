"""What clearing was asked for, and which columns can be cleared at all: from the schema alone."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from enum import StrEnum

from yeldro.core.model.grammar import exp, sqlglot
from yeldro.core.model.schema import Column, Family, Table
from yeldro.core.reach.request import Request
from yeldro.errors import UsageError


def _constant() -> tuple[type[exp.Expr], ...]:
    return (
        exp.Literal,
        exp.Null,
        exp.Boolean,
        exp.National,
        exp.HexString,
        exp.BitString,
        exp.Neg,
        exp.Paren,
        exp.Cast,
        exp.DataType,
        exp.DataTypeParam,
        exp.Array,
    )


class Emptiness(StrEnum):
    """What a cleared column holds afterwards."""

    NULL = "null"
    BLANK = "blank"
    DEFAULT = "default"


class ClearRequest(Request, frozen=True):
    """Clearing as it was asked for: the rows, and what `columns` of them are left with."""

    columns: tuple[str, ...] = ()
    to: Emptiness = Emptiness.NULL


# All that may stand in a default which is the same for every row.


def read_columns(
    texts: Sequence[str], table: Table, to: Emptiness, dialect: str
) -> tuple[str, ...]:
    """The columns that a person named, in column order. UsageError where one cannot be left so."""
    named = {table.find_column(text).name for text in texts}
    columns = [column for column in table.columns if column.name in named]
    if not columns:
        raise UsageError(
            "clear needs --columns: what is to be removed from the rows.",
            f"The columns of {table.label}: {', '.join(table.column_names)}.",
        )
    for column in columns:
        for fault, hint in _find_faults(table, column, to, dialect):
            raise UsageError(fault, hint)
    return tuple(column.name for column in columns)


def _find_faults(
    table: Table, column: Column, to: Emptiness, dialect: str
) -> Iterator[tuple[str, str]]:
    """Why a column cannot be left so, each with what could be done instead."""
    name = f"{table.label}.{column.name}"
    if column.name in (*table.key, *table.identity):
        yield (
            f"{name} is part of the key: without it nobody could tell the rows apart.",
            f"yeldro delete {table.label} removes whole rows.",
        )
    if column.generated:
        yield f"{name} is generated: it follows from other columns.", "Clear those."
    if to is Emptiness.BLANK and not _takes_blank(column):
        yield f"{name} is of the type {column.type}, which has no blank.", _offer(column)
    if to is Emptiness.DEFAULT and not is_constant(column.default, dialect):
        yield (
            f"The default of {name} is worked out anew each time ({column.default}), so nobody "
            "could compare it with what was shown.",
            _offer(column),
        )
    leaves_null = to is Emptiness.NULL or (to is Emptiness.DEFAULT and not has_default(column))
    if leaves_null and not column.nullable:
        more = ", and has no default" if to is Emptiness.DEFAULT else ""
        yield f"{name} may not be NULL{more}.", _offer(column)


def _takes_blank(column: Column) -> bool:
    return column.family is Family.TEXT and not column.type.lower().startswith("enum")


def has_default(column: Column) -> bool:
    """Whether a row gets a value there where none is given."""
    return (column.default or "NULL").upper() != "NULL"


def is_constant(default: str | None, dialect: str) -> bool:
    """Whether a default is one value, whatever the row and the time."""
    try:
        tree = sqlglot.parse_one(default or "NULL", read=dialect)
    except sqlglot.errors.SqlglotError:
        return False
    return all(isinstance(node, _constant()) for node in tree.walk())


def _offer(column: Column) -> str:
    """What a column could be left with."""
    ways = ["--to null"] if column.nullable else []
    ways += ["--to blank"] if _takes_blank(column) else []
    ways += ["--to default"] if has_default(column) else []
    return f"{' or '.join(ways)} would do." if ways else "Leave it out."
