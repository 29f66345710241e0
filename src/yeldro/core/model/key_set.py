"""Sets of keys inside the database."""

from __future__ import annotations

from enum import IntEnum
from typing import Any

from msgspec import Struct

from yeldro.core.model.schema import Family, Reference, Schema, Table


class Mark(IntEnum):
    """What becomes of a row with new values."""

    DETACHED = 0
    """It no longer points at anything: else it would point at itself."""
    MOVED = 1
    WAITING = 2
    """It is moved, to what will only be there when the rows that go are gone."""
    LOOPED = 3
    """It would point at itself, and cannot be taken off."""


class StoredKeys(Struct, frozen=True, eq=False):
    """A temporary table of row identities of one table, inside the database.

    `columns` are the identity followed by every further column of the table that references point
    at, so that dependents can be found, and dangling references be looked for, after the rows
    themselves are gone. `new` are columns of which a value stands beside each row: the one that a
    row which stays will get, or, of a row that goes, the one of the row that takes its place.
    """

    table: Table
    columns: tuple[str, ...]
    name: str
    new: tuple[str, ...] = ()


class NumberedKeys(StoredKeys, frozen=True, eq=False):
    """A temporary table of keys with a number each, from 1 in the order of the keys."""


class KeyRange(StoredKeys, frozen=True, eq=False, kw_only=True):
    """Those of a temporary table of `numbered` keys from one number to another, where they stand:
    there is no table of this name. `ends` are the keys that have these numbers. `has_all`: no
    other row of the table between them is wanted."""

    numbered: StoredKeys
    first: int
    last: int
    ends: tuple[tuple[Any, ...], tuple[Any, ...]]
    has_all: bool = False

    @property
    def span(self) -> tuple[int, int] | None:
        """Between which numbers all of the keys lie, where they are whole numbers, one each. None
        where that is not known, as of groups."""
        table, name = self.table, self.columns[0]
        is_number = len(self.columns) == 1 and table.identity == self.columns
        if not (is_number and isinstance(self.numbered, NumberedKeys)) or (
            name in table.column_names and table.column(name).family is not Family.INTEGER
        ):
            return None
        (low,), (high,) = self.ends
        return (low, high) if type(low) is type(high) is int else None


class AlikeRows(StoredKeys, frozen=True, eq=False):
    """Rows of a table in which nothing tells rows apart: the temporary table holds what they look
    like, and of those that look so as many are meant as it says."""


class DependentRows(Struct, frozen=True, eq=False):
    """All rows that point into a stored key set through an enforced reference. They need no table
    of their own: nothing references such rows, and nobody can add one while the rows that they
    point at are locked."""

    table: Table
    columns: tuple[str, ...]
    reference: Reference
    parents: StoredKeys


class WholeTable(Struct, frozen=True, eq=False):
    """All rows of a table that is locked as a whole."""

    table: Table
    columns: tuple[str, ...]


# The rows of one table that are fixed, by whatever fixes them.
KeySet = StoredKeys | DependentRows | WholeTable


def stored(keys: KeySet) -> StoredKeys:
    """The key set itself, where it must have a table of its own."""
    assert isinstance(keys, StoredKeys)
    return keys


def find_carried(schema: Schema, table: Table) -> tuple[str, ...]:
    """What a key set holds of a row: its identity, and what references point at."""
    return tuple(dict.fromkeys((*table.identity, *schema.referred_columns(table))))
