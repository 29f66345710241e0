"""Restoring some of the rows of a run: those that were named, and what depended on them."""

from __future__ import annotations

from collections.abc import Sequence

from yeldro.core.database.archive_format import Stage
from yeldro.core.database.connection import Database, KeySet
from yeldro.core.model.schema import Table, overlaps
from yeldro.core.restore.plan import find_links


def narrow(database: Database, stages: Sequence[Stage], root: Table, listed: KeySet) -> int:
    """Let the stages hold only the listed rows of `root`, and what hung on them when they went.

    Returns how many rows of `root` these are.
    """
    chosen = 0
    kept = {stage.portion.number: database.make_staged_set(stage) for stage in stages}
    back: dict[Table, list[KeySet]] = {}
    for stage in stages:
        if stage.portion.action == "delete":
            back.setdefault(stage.table, []).append(kept[stage.portion.number])
            if stage.table is root:
                chosen += database.pull_staged(stage, kept[stage.portion.number], None, listed)
    added = 1
    while added:
        added = 0
        for stage in stages:
            for reference in find_links(database, stage):
                sets = [
                    kept_set
                    for table, some in back.items()
                    if overlaps(table, reference.parent)
                    for kept_set in some
                ]
                for parents in () if reference.broken else sets:
                    added += database.pull_staged(
                        stage, kept[stage.portion.number], reference, parents
                    )
    for stage in stages:
        database.keep_staged(stage, kept[stage.portion.number])
    return chosen
