"""Restoring some of the rows of a run: those that were named, and what depended on them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from yeldro.core.database.archive_format import Stage
from yeldro.core.database.connection import Database
from yeldro.core.model.action import Action
from yeldro.core.model.key_set import StoredKeys
from yeldro.core.model.schema import Table, overlaps
from yeldro.core.restore.plan import find_links


def narrow(database: Database, stages: Sequence[Stage], root: Table, listed: StoredKeys) -> int:
    """Let the stages hold only the listed rows of `root`, and what depended on them when they went.

    Returns how many rows of `root` these are.
    """
    kept = {stage.portion.number: database.archive.make_staged_set(stage) for stage in stages}
    own = (Action.DELETE, Action.CLEAR)
    back = [stage for stage in stages if stage.portion.action in own]
    chosen = 0
    for stage in back:
        if stage.table is root:
            chosen += database.archive.pull_staged(stage, kept[stage.portion.number], None, listed)
    added = 1
    while added:
        added = sum(_pull_dependents(database, stage, back, kept) for stage in stages)
    for stage in stages:
        database.archive.keep_staged(stage, kept[stage.portion.number])
    return chosen


def _pull_dependents(
    database: Database, stage: Stage, back: Sequence[Stage], kept: Mapping[int, StoredKeys]
) -> int:
    """Keep the rows of a stage that depended on rows which are kept. Returns how many are new."""
    added = 0
    for reference in find_links(database, stage):
        if reference.broken:
            continue
        for other in back:
            if overlaps(other.table, reference.parent):
                mine, parents = kept[stage.portion.number], kept[other.portion.number]
                added += database.archive.pull_staged(stage, mine, reference, parents)
    return added
