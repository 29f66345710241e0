"""The archive of a run in batches, as if it had been one transaction."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence

from msgspec.structs import replace

from yeldro.core.database.archive_format import Portion


def merge_batches(portions: Sequence[Portion]) -> list[Portion]:
    """One portion for each table. Where rows that stayed were changed, each batch must be undone by
    itself, the last one first, and nothing is merged."""
    if any(one.changed for one in portions):
        return list(portions)
    groups: dict[object, list[Portion]] = {}
    for one in portions:
        groups.setdefault((one.table.name, one.columns, one.key), []).append(one)
    return [_merge(group) for group in groups.values()]


def _merge(group: Sequence[Portion]) -> Portion:
    orphans: Counter[str] = Counter()
    for one in group:
        orphans.update(one.orphans or {})
    return replace(
        group[0],
        rows=sum(one.rows for one in group),
        orphans=dict(orphans),
        step=1,
        parts=tuple(one.number for one in group),
    )
