"""Rows that stay and get new values: what must stand beside their keys, and what would not be
unique any more."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Sequence

from yeldro.core.database.connection import Database
from yeldro.core.model.key_set import KeySet, StoredKeys, find_carried
from yeldro.core.model.schema import Table, Unique


def find_new(table: Table, changing: Collection[str]) -> tuple[str, ...]:
    """The columns that change, and those that are unique together with them."""
    unique = [one for one in table.unique_with(changing) if not one.parts]
    wanted = {*changing, *(name for one in unique for name in one.columns)}
    return tuple(name for name in table.column_names if name in wanted)


def find_doubled(
    database: Database, keys: StoredKeys, gone: KeySet, uniques: Sequence[Unique]
) -> Iterator[tuple[Unique, int]]:
    """What would not be unique any more once rows have their new values, with how many of them
    would be like another row; those that are `gone` by then do not count."""
    for unique in uniques:
        # What stands beside the keys keeps the rows apart, or the database refuses.
        if not (unique.parts or unique.uses <= set(keys.new)):
            continue
        collided = database.make_key_set(keys.table, find_carried(database.schema, keys.table))
        if rows := database.replacing.find_collisions(keys, gone, unique, collided):
            yield unique, rows
