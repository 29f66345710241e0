"""References that the engine would check by looking through a whole table for each deleted row."""

from __future__ import annotations

from yeldro.core.database.connection import Database
from yeldro.core.model.schema import Reference

# From here on building an index takes less time than the scans that it saves: so many of them, and
# so many rows that they look at together.
_MANY_CHECKS = 20
_MANY_LOOKED_AT = 200_000


def count_looked_through(database: Database, reference: Reference, checks: int) -> int:
    """How many rows each of so many checks would look through; 0 where that does not matter."""
    checked = reference.declared and reference.enforced and not reference.broken
    if not checked or reference.is_indexed or checks < _MANY_CHECKS:
        return 0
    rows = database.count_rows(reference.child)
    return rows if checks * rows >= _MANY_LOOKED_AT else 0
