"""Rows that stay, and what of them must not change: a trigger may have written more than was
asked for."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from yeldro.core.database.connection import Database
from yeldro.core.model.key_set import KeySet, StoredKeys
from yeldro.core.model.schema import Table
from yeldro.core.reach.engine_checks import runs_triggers
from yeldro.core.reach.reach import Reach

# Sums of fingerprints of rows, in whatever order these come.
Staying = Mapping[KeySet, int]


def find_staying(database: Database, reach: Reach) -> Staying:
    """What the rows that are changed hold in all other columns. Only of tables whose triggers run
    at an update: elsewhere the engine writes nothing but what was asked for."""
    changed = list(_find_changed(reach))
    names: dict[Table, set[str]] = {}
    for keys, columns in changed:
        names.setdefault(keys.table, set()).update(columns)
    return {
        keys: _sum_up(database, keys, names[keys.table])
        for keys, _ in changed
        if runs_triggers(database, keys.table, "UPDATE")
    }


def find_altered(database: Database, reach: Reach, before: Staying) -> Iterator[Table]:
    """The tables whose rows hold other values there than they did."""
    now = find_staying(database, reach) if before else {}
    for keys, known in before.items():
        if now[keys] != known:
            yield keys.table


def _find_changed(reach: Reach) -> Iterator[tuple[StoredKeys, tuple[str, ...]]]:
    for detachment in reach.detached:
        if detachment.rows:
            yield detachment.keys, detachment.treatment.columns
    for change in reach.changes:
        if change.rows:
            yield change.keys, change.columns


def _sum_up(database: Database, keys: StoredKeys, changed: set[str]) -> int:
    """What the engine makes of the changed columns by itself is no change of its own."""
    columns = [
        one.name for one in keys.table.columns if one.name not in changed and not one.generated
    ]
    images = database.archive.find_images(keys, columns, apart=False)
    return sum(hash(str(row[0])) for row in images)
