"""What engines can do, how they read a condition, and what they count: asked for by need, and not
by name."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from enum import StrEnum
from typing import Any

from yeldro.core.model.schema import OnDelete, Table, TableName

Row = tuple[Any, ...]


@dataclass(frozen=True, slots=True)
class Effect:
    """What a statement may do to another table by itself: `verb` is insert, update or delete."""

    table: Table
    verb: str
    trigger: str


@dataclass(frozen=True, slots=True)
class ColumnProfile:
    """What one column holds: NULLs, different values (without NULL), and the extremes.

    None where the database cannot tell: not every type can be counted apart, or put in order.
    """

    nulls: int
    distinct: int | None
    smallest: Any
    largest: Any


class Odd(StrEnum):
    """What a column may hold beside the values that its type speaks of."""

    TEXT = "a text"
    NUMBER = "a number"
    BYTES = "bytes"
    BLANK = "a blank text"
    NOT_A_DAY = "a text that is no day in the form 2024-01-31"


class Quirk(StrEnum):
    """How an engine reads a condition otherwise than the standard does."""

    TEXTS_AS_NUMBERS = "a text that meets a number is turned into one"
    UNTYPED = "values are compared by what they are, numbers before texts; days are texts"
    QUOTED_TEXTS = "a word in double quotes may be a text"
    PIPES_ARE_OR = "|| means OR"
    BLIND_LIKE = "LIKE ignores case"


@dataclass(frozen=True, slots=True)
class Abilities:
    """What an engine can do, asked for by need and not by name.

    `tree_rules`: the rules of a self-reference under which one statement may delete rows together
    with the rows that they point at. `circle_rules`: the rules that the references of a circle of
    tables may have where no column of it can be NULL. `circle_hint` is the option that allows all
    others, "" where there is none. `own_row`: whether a row that points at itself can be deleted;
    else rows of a tree without NULLs go level by level. `truncates` says what TRUNCATE means here,
    and `rolls_back_truncate` whether it can be taken back. `ddl_commits`: making a table ends a
    transaction. `indexes_expressions`: an index may be on them; `shared_index_names`: two tables
    cannot have indexes of one name. `keeps_references`: no account but an administrator can switch
    the checks off. `needless_prefix` is the schema in which every name is looked up anyway, ""
    where there may be several.
    """

    tree_rules: frozenset[OnDelete]
    circle_rules: frozenset[OnDelete]
    circle_hint: str = ""
    own_row: bool = True
    truncates: str = ""
    rolls_back_truncate: bool = True
    ddl_commits: bool = False
    indexes_expressions: bool = True
    shared_index_names: bool = True
    keeps_references: bool = False
    needless_prefix: str = ""
    quirks: frozenset[Quirk] = frozenset()


@dataclass(frozen=True, slots=True)
class TableChanges:
    """Rows of one table that the database counted as inserted, updated and deleted."""

    inserted: int = 0
    updated: int = 0
    deleted: int = 0

    @property
    def total(self) -> int:
        return self.inserted + self.updated + self.deleted

    def plus(self, other: TableChanges) -> TableChanges:
        return TableChanges(
            self.inserted + other.inserted,
            self.updated + other.updated,
            self.deleted + other.deleted,
        )

    def less(self, other: TableChanges) -> TableChanges:
        return TableChanges(
            self.inserted - other.inserted,
            self.updated - other.updated,
            self.deleted - other.deleted,
        )


@dataclass(frozen=True, slots=True)
class Changes:
    """What the database itself counted on this connection so far: in total and, where it tells, by
    table.

    `storage` says of tables where their rows are kept, as it changes when one is emptied or rebuilt
    as a whole, which no counter tells. `replaced` are the tables that were, or that are gone, since
    another look.
    """

    total: int
    tables: Mapping[TableName, TableChanges] | None = None
    storage: Mapping[TableName, str] = field(default_factory=dict)
    replaced: tuple[TableName, ...] = ()

    def since(self, start: Changes) -> Changes:
        """What came after `start`."""
        if self.tables is None:
            return Changes(self.total - start.total)
        old = start.tables or {}
        return Changes(
            self.total - start.total,
            {
                name: one.less(old.get(name, TableChanges()))
                for name, one in self.tables.items()
                if one != old.get(name)
            },
            replaced=tuple(
                name for name, place in start.storage.items() if self.storage.get(name) != place
            ),
        )

    def of(self, table: Table) -> TableChanges:
        """What was counted for a table and its partitions; nothing where the database does not
        count by table."""
        found = [
            one
            for name, one in (self.tables or {}).items()
            if name == table.name or name in table.parts
        ]
        return TableChanges(
            sum(one.inserted for one in found),
            sum(one.updated for one in found),
            sum(one.deleted for one in found),
        )


class Kind(StrEnum):
    """What a statement that was sent is for."""

    MAKE = "makes a temporary table"
    CHANGE = "changes rows, of a table or of a key table"
    LOCK = "locks rows"
    PLAIN = "does something else that matters"
    LOOK = "only looks, or matters to nobody else"


@dataclass(frozen=True, slots=True)
class Sent:
    """A statement as it was sent, with its values, and how many rows it touched. `name` is that of
    a table it makes."""

    kind: Kind
    text: str
    rows: int | None = None
    name: str = ""


class Mode(StrEnum):
    """How a transaction is opened. READ changes nothing and is kept from it by the database."""

    READ = "read"
    WRITE = "write"
