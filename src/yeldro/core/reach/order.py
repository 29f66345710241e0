"""The order in which tables can lose their rows."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from yeldro.core.database.connection import Abilities, KeySet
from yeldro.core.model.graph import find_components, find_cycle
from yeldro.core.model.schema import OnDelete, Reference, Schema, TableName


def reachable(root: TableName, edges: list[tuple[TableName, TableName]]) -> list[TableName]:
    found = {root: None}
    waiting = [root]
    while waiting:
        start = waiting.pop()
        for parent, child in edges:
            if parent == start and child not in found:
                found[child] = None
                waiting.append(child)
    return list(found)


@dataclass(frozen=True, slots=True)
class DeletionOrder:
    """`tables` stand children first; `links` are cleared beforehand, `late` checked at the end;
    `knots` forbid it."""

    tables: list[TableName]
    links: list[Reference]
    late: list[Reference]
    knots: list[Reference]


def find_order(
    sets: Mapping[TableName, KeySet],
    schema: Schema,
    abilities: Abilities,
    *,
    breaks_cycles: bool = False,
) -> DeletionOrder:
    """The order in which tables can lose their rows.

    A circle of tables is opened at a nullable reference, or else at the one whose own rule does
    least.
    """
    breaks = breaks_cycles and abilities.circle_hint
    circle_rules = frozenset(OnDelete) if breaks else abilities.circle_rules
    names = list(sets)
    references = [
        r for r in schema.acting if r.child.name in sets and r.parent.name in sets and not r.broken
    ]
    selves = [reference for reference in references if reference.is_self]
    links = [
        reference
        for reference in selves
        if reference.on_delete not in abilities.tree_rules
        and (reference.nullable_columns or abilities.own_row)
        and not reference.child.shares_identity
        and reference.is_clearable
    ]
    left = [reference for reference in references if not reference.is_self]
    opened: list[Reference] = []
    while cycle := find_cycle(names, [(r.child.name, r.parent.name) for r in left]):
        opened.append(min((left[place] for place in cycle), key=_reluctance))
        left.remove(opened[-1])
    links += [reference for reference in opened if _is_open(reference)]
    late = [r for r in selves if circle_rules and not abilities.own_row and not r.nullable_columns]
    stuck = [reference for reference in opened if not _is_open(reference)]
    rest = [reference for reference in references if reference not in links]
    knots = [reference for reference in stuck if _is_knotted(reference, names, rest, circle_rules)]
    order = [name for part in find_components(names, _edges(left)) for name in part]
    return DeletionOrder(order, links, late + stuck, knots)


def _edges(references: Sequence[Reference]) -> list[tuple[TableName, TableName]]:
    return [(reference.child.name, reference.parent.name) for reference in references]


def _is_knotted(
    reference: Reference,
    names: list[TableName],
    references: Sequence[Reference],
    allowed: frozenset[OnDelete],
) -> bool:
    """Whether the circle that a reference belongs to holds a rule that the engine cannot bear
    there."""
    circle = next(
        set(part)
        for part in find_components(names, _edges(references))
        if reference.child.name in part
    )
    return any(
        r.on_delete not in allowed and {r.child.name, r.parent.name} <= circle for r in references
    )


def _is_open(reference: Reference) -> bool:
    """Whether a circle can be opened here: by taking the reference away from rows that go."""
    return bool(reference.nullable_columns) and reference.is_clearable


def _reluctance(reference: Reference) -> int:
    """How unwelcome it is to open a circle here: least where the reference can be NULL."""
    ranks = (
        OnDelete.NO_ACTION,
        OnDelete.RESTRICT,
        OnDelete.CASCADE,
        OnDelete.SET_NULL,
        OnDelete.SET_DEFAULT,
    )
    return -1 if _is_open(reference) else ranks.index(reference.on_delete)
