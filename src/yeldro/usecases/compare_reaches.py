"""What came into a reach, and what left it, since somebody looked."""

from __future__ import annotations

from yeldro.core.database.connection import Database
from yeldro.core.model.key_set import KeySet, StoredKeys
from yeldro.core.reach.reach import Reach
from yeldro.core.run.outcome import Outcome as Outcome


def count_differences(database: Database, old: Reach, new: Reach) -> tuple[int, int]:
    """How many rows, each with its action, are only in the new reach, and how many only in the old
    one."""
    before, after = key_sets_by_cause(old), key_sets_by_cause(new)
    came = sum(rows for cause, (_, rows) in after.items() if cause not in before)
    went = sum(rows for cause, (_, rows) in before.items() if cause not in after)
    for cause in before.keys() & after.keys():
        (old_keys, old_rows), (new_keys, new_rows) = before[cause], after[cause]
        more = database.count_beyond(new_keys, old_keys)
        if isinstance(new_keys, StoredKeys) and new_keys.new:
            more += database.replacing.count_otherwise(new_keys, old_keys)
        came, went = came + more, went + old_rows - (new_rows - more)
    return came, went


def count_strangers(database: Database, shown: Reach, batch: Reach) -> int:
    """How many rows of a batch nobody was shown. Rows that go anyway may have to be detached or
    moved before, where their own batch comes later."""
    before, going = key_sets_by_cause(shown), {keys.table: keys for keys, _ in shown.deleted}
    came = 0
    for cause, (keys, rows) in key_sets_by_cause(batch).items():
        known = [before[cause][0]] if cause in before else []
        known += [going[keys.table]] if keys.table in going and cause is not keys.table else []
        came += database.count_beyond(keys, *known) if known else rows
    return came


def key_sets_by_cause(reach: Reach) -> dict[object, tuple[KeySet, int]]:
    """The key sets by what they stand for: the table that loses rows, or the reference that is
    taken away."""
    causes: dict[object, tuple[KeySet, int]] = {
        keys.table: (keys, rows) for keys, rows in reach.deleted
    }
    causes.update(
        {detachment.reference: (detachment.keys, detachment.rows) for detachment in reach.detached}
    )
    causes.update(
        {
            (change.table, change.action, change.keys.new): (change.keys, change.rows)
            for change in reach.changes
        }
    )
    return causes
