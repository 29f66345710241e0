"""Where a value lives: the columns that can hold it, and how a row is asked for it."""

from __future__ import annotations

from collections.abc import Iterator

from msgspec import Struct

from yeldro.core.database.connection import Database
from yeldro.core.findings.finding import Way
from yeldro.core.model.grammar import exp
from yeldro.core.model.schema import Column, Family, Table
from yeldro.core.model.values import Parameter
from yeldro.core.selection.condition import Condition, read_condition
from yeldro.errors import UsageError

_TRUTHS = ("true", "false")
# Types whose text form is not what a person would look for.
_BYTES = ("bytea", "blob", "binary")


class Holder(Struct, frozen=True, eq=False):
    """A column that can hold the value, and the condition for it."""

    column: Column
    condition: Condition
    way: Way


class Held(Struct, frozen=True, eq=False):
    """`rows` of a table hold the value in a column; among its first `sampled` rows, where that is
    not 0."""

    holder: Holder
    rows: int
    sampled: int = 0


class Holdings(Struct, frozen=True):
    """Where a value lives, and the tables that were not looked at to the end in time."""

    value: str
    found: tuple[Held, ...]
    unseen: tuple[Table, ...]


def list_holders(database: Database, table: Table, text: str) -> Iterator[Holder]:
    for column in table.columns:
        name = database.write_name(column.name)
        if column.family is Family.BOOLEAN and text.lower() not in _TRUTHS:
            continue
        if column.family is Family.OTHER:
            if any(word in column.type.lower() for word in _BYTES):
                continue
            name = exp.cast(exp.Var(this=name), "text").sql(dialect=database.dialect)
        written = f"{name} = :value"
        parameters = {"value": Parameter("value", text, None)}
        try:
            condition = read_condition(written, table, database.dialect, parameters)
        except UsageError:
            continue  # what is not a number stands in no column of numbers
        options = {"where": (written,), "parameters": (f"value={text}",)}
        yield Holder(column, condition, Way("preview", table, options))
