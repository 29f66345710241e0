"""What a picture of a map shows: a box for each table, and where these are too many, one for
several."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence

from msgspec import Struct, field

from yeldro.core.model.action import Action
from yeldro.core.model.graph import find_components
from yeldro.core.model.schema import Reference, Table
from yeldro.core.reach.reach import Stop
from yeldro.core.survey.map import TableMap

# More boxes than these nobody reads.
MOST_BOXES = 60


class Box(Struct, frozen=True, eq=False):
    """One table, or several `tables` that a box stands for together. `rows` is how many a table
    has, `counts` what a selection does to them, `stops` what blocks it."""

    tables: tuple[Table, ...]
    rows: int | None = None
    counts: Mapping[Action, int] = field(default_factory=dict)
    stops: tuple[Stop, ...] = ()

    @property
    def is_folded(self) -> bool:
        return len(self.tables) > 1


class Arrow(Struct, frozen=True, eq=False):
    """Rows of box number `child` reference rows of box number `parent`, through one reference or,
    where tables are folded, through several; through none that is known, only a `label` tells."""

    child: int
    parent: int
    references: tuple[Reference, ...] = ()
    label: str = ""


class Picture(Struct, frozen=True, eq=False):
    """`boxes` stand children first. `tables` is how many there are in all."""

    boxes: tuple[Box, ...]
    arrows: tuple[Arrow, ...]
    tables: int


def make_picture(
    found: TableMap,
    rows: Mapping[Table, int],
    stops: Sequence[Stop] = (),
    keep: Collection[Table] = (),
    most: int = MOST_BOXES,
) -> Picture:
    """Of a map with the rows of its tables. Those that a selection touches, and those to `keep`,
    have boxes of their own."""
    groups = _order(_fold(found, {*keep, *found.counts}, most), found.references)
    boxes = tuple(
        Box(
            group,
            rows.get(group[0]) if len(group) == 1 else None,
            found.counts.get(group[0], {}) if len(group) == 1 else {},
            tuple(stop for stop in stops if [stop.table] == list(group)),
        )
        for group in groups
    )
    place = {table: number for number, group in enumerate(groups) for table in group}
    return Picture(boxes, tuple(_find_arrows(found, boxes, place)), len(found.tables))


def _order(
    groups: Sequence[tuple[Table, ...]], references: Sequence[Reference]
) -> list[tuple[Table, ...]]:
    """Children first, as far as there is no cycle."""
    home = {table: group for group in groups for table in group}
    edges = [(home[reference.child], home[reference.parent]) for reference in references]
    parts = find_components(groups, [(child, parent) for child, parent in edges if child != parent])
    return [group for part in parts for group in part]


def _find_arrows(
    found: TableMap, boxes: Sequence[Box], place: Mapping[Table, int]
) -> Sequence[Arrow]:
    """One for each reference between two tables, one in all where a box stands for several."""
    several: dict[object, list[Reference]] = {}
    for reference in found.references:
        child, parent = place[reference.child], place[reference.parent]
        folded = boxes[child].is_folded or boxes[parent].is_folded
        if not (folded and child == parent):
            several.setdefault((child, parent) if folded else reference, []).append(reference)
    return [
        Arrow(place[refs[0].child], place[refs[0].parent], tuple(refs)) for refs in several.values()
    ]


def _fold(found: TableMap, kept: Collection[Table], most: int) -> list[tuple[Table, ...]]:
    """Tables that nothing references, most alike ones first, share a box with those that reference
    the same tables."""
    shown = list(found.tables)
    parents: dict[Table, set[Table]] = {table: set() for table in shown}
    for reference in found.references:
        if not reference.is_self:
            parents[reference.child].add(reference.parent)
    hidden: list[Table] = []
    groups = _group(found.tables, shown, parents)
    while len(groups) > most and (one := _find_least(shown, parents, kept)):
        shown.remove(one)
        hidden.append(one)
        groups = _group(found.tables, shown, parents)
    return groups


def _find_least(
    shown: Sequence[Table], parents: Mapping[Table, set[Table]], kept: Collection[Table]
) -> Table | None:
    """The last of the tables that nothing shown references, of those that are most alike."""
    referenced = {parent for table in shown for parent in parents[table]}
    free = [table for table in shown if table not in referenced and table not in kept]
    alike: dict[frozenset[Table], list[Table]] = {}
    for table in free:
        alike.setdefault(frozenset(parents[table]), []).append(table)
    return max(alike.values(), key=len)[-1] if free else None


def _group(
    tables: Sequence[Table], shown: Collection[Table], parents: Mapping[Table, set[Table]]
) -> list[tuple[Table, ...]]:
    """The boxes, children first: a hidden table stands where it would."""
    seen = set(shown)
    groups: dict[object, list[Table]] = {}
    for table in tables:
        alone = table in seen
        key = table if alone else _find_shown(table, seen, parents)
        groups.setdefault(key, []).append(table)
    return [tuple(group) for group in groups.values()]


def _find_shown(
    table: Table, shown: Collection[Table], parents: Mapping[Table, set[Table]]
) -> frozenset[Table]:
    """The shown tables that a hidden one leads to."""
    found, waiting, seen = set(), [table], {table}
    while waiting:
        for parent in parents[waiting.pop()] - seen:
            seen.add(parent)
            if parent in shown:
                found.add(parent)
            else:
                waiting.append(parent)
    return frozenset(found)
