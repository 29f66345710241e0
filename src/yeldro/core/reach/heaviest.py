"""What a batch cannot be smaller than: one row with all that depends on it directly."""

from __future__ import annotations

from collections.abc import Sequence

from yeldro.core.database.connection import Database
from yeldro.core.model.fact import Fact, fact
from yeldro.core.reach.reach import Reach


def find_heaviest_group(sizes: Sequence[tuple[int, int]], beyond: int) -> Fact | None:
    """The same of groups of duplicates, of which there are so many of each size."""
    surplus = max((size - 1 for size, _ in sizes), default=0)
    return fact("hint.heavy-group", rows=surplus) if surplus > beyond else None


def find_heaviest(database: Database, reach: Reach, beyond: int) -> Fact | None:
    """The row that brings most rows with it, if these are more than `beyond`. What depends on them
    in their turn is not counted: a batch may have to be larger still."""
    going = {keys.table: keys for keys, rows in reach.deleted if rows}
    heavy = [
        (database.count_most_referencing(reference, going[reference.parent]) + 1, reference)
        for part in reach.parts
        if part.rows >= beyond
        for reference in part.via
        if reference.parent in going
    ]
    rows, reference = max(heavy, key=lambda one: one[0], default=(0, None))
    if reference is None or rows <= beyond:
        return None
    return fact("hint.heavy", rows=rows, parent=reference.parent, child=reference.child)
