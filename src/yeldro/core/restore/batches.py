"""The archive of a run in batches, as if it had been one transaction."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence

from msgspec.structs import replace

from yeldro.core.database.archive_format import Portion


def merge_batches(portions: Sequence[Portion]) -> list[Portion]:
    """One portion for each table, where that comes to the same. Each batch must be undone by
    itself, the last one first, where rows that stayed were changed, where rows go by which nothing
    tells apart, so that only their number counts after each batch, and where a table was defined
    anew in between."""
    groups: dict[object, list[Portion]] = {}
    for one in portions:
        groups.setdefault((one.table.name, one.columns, one.key), []).append(one)
    kinds = Counter(group[0].table.name for group in groups.values())
    if any(one.changed or not one.key for one in portions) or max(kinds.values(), default=1) > 1:
        return list(portions)
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
