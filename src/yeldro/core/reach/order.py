"""The order in which tables can lose their rows."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from msgspec import Struct

from yeldro.core.database.abilities import Abilities
from yeldro.core.model.graph import find_components, find_cycle
from yeldro.core.model.key_set import KeySet
from yeldro.core.model.schema import Reference, ReferentialAction, Schema, TableName


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


class DeletionOrder(Struct, frozen=True):
    """`tables` stand children first; `links` are cleared beforehand, `late` checked at the end;
    `knots` block it."""

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

    A cycle of tables is opened at a nullable reference, or else at the one whose own rule does
    least.
    """
    # With the engine's checks off no rule of its own acts, so all of them can be borne.
    allowed = abilities.cycle_rules
    if breaks_cycles and abilities.needs_leave_for_cycles:
        allowed = frozenset(ReferentialAction)
    inner = [reference for reference in schema.acting if _is_inside(reference, sets)]
    between = [reference for reference in inner if not reference.is_self]
    names = list(sets)
    # References within one table make no order between tables.
    opened = _open_cycles(names, between)
    # A cycle is opened by taking the reference away from rows that go. Where that cannot be, the
    # rows go in one statement, and the reference is checked at the end.
    cleared = list(filter(_is_open, opened))
    stuck = _without(opened, cleared)
    links = [reference for reference in inner if _must_be_cleared(reference, abilities)] + cleared
    kept = _without(inner, links)
    knots = [reference for reference in stuck if _is_knotted(reference, names, kept, allowed)]
    late = _find_late(inner, abilities) if allowed else []
    parts = find_components(names, _edges(_without(between, opened)))
    return DeletionOrder([name for part in parts for name in part], links, late + stuck, knots)


def _without(references: Sequence[Reference], others: Sequence[Reference]) -> list[Reference]:
    return [reference for reference in references if reference not in others]


def _find_late(references: Sequence[Reference], abilities: Abilities) -> list[Reference]:
    """References within a table that only the end of a statement, or of the transaction, may
    check."""
    if abilities.own_row:
        return []
    return [
        reference
        for reference in references
        if reference.is_self and not reference.nullable_columns
    ]


def _is_inside(reference: Reference, sets: Mapping[TableName, KeySet]) -> bool:
    """Whether it leads from rows that go to rows that go."""
    return reference.child.name in sets and reference.parent.name in sets and not reference.broken


def _must_be_cleared(reference: Reference, abilities: Abilities) -> bool:
    """Whether rows of a table that point at each other cannot go in one statement as they are."""
    if not reference.is_self or reference.on_delete in abilities.tree_rules:
        return False
    # Rows that nothing tells apart cannot be changed one by one.
    if reference.child.shares_identity or not reference.is_clearable:
        return False
    return bool(reference.nullable_columns) or abilities.own_row


def _open_cycles(names: Sequence[TableName], between: Sequence[Reference]) -> list[Reference]:
    """One reference of each cycle of several tables, without which there is no cycle any more."""
    left = list(between)
    opened: list[Reference] = []
    while cycle := find_cycle(names, _edges(left)):
        opened.append(min((left[place] for place in cycle), key=_reluctance))
        left.remove(opened[-1])
    return opened


def _edges(references: Sequence[Reference]) -> list[tuple[TableName, TableName]]:
    return [(reference.child.name, reference.parent.name) for reference in references]


def _is_knotted(
    reference: Reference,
    names: list[TableName],
    references: Sequence[Reference],
    allowed: frozenset[ReferentialAction],
) -> bool:
    """Whether the cycle that a reference belongs to holds a rule that the engine cannot bear
    there."""
    components = find_components(names, _edges(references))
    cycle = next(set(part) for part in components if reference.child.name in part)
    inside = [r for r in references if {r.child.name, r.parent.name} <= cycle]
    return any(r.on_delete not in allowed for r in inside)


def _is_open(reference: Reference) -> bool:
    """Whether a cycle can be opened here: by taking the reference away from rows that go."""
    return bool(reference.nullable_columns) and reference.is_clearable


def _reluctance(reference: Reference) -> int:
    """How unwelcome it is to open a cycle here: least where the reference can be NULL."""
    ranks = (
        ReferentialAction.NO_ACTION,
        ReferentialAction.RESTRICT,
        ReferentialAction.CASCADE,
        ReferentialAction.SET_NULL,
        ReferentialAction.SET_DEFAULT,
    )
    return -1 if _is_open(reference) else ranks.index(reference.on_delete)
