"""The tables of a database in deletion order, and what references what."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from msgspec import Struct, field

from yeldro.core.cautions.caution import Caution
from yeldro.core.cautions.of_schema import hidden_reference
from yeldro.core.model.action import Action
from yeldro.core.model.graph import find_components
from yeldro.core.model.schema import Reference, Schema, Table
from yeldro.core.reach.reach import Reach


class TableMap(Struct, frozen=True, eq=False):
    """`tables` stand children first. A cycle is a set of tables that reference each other, or one
    that references itself. `counts` holds what a selection would do to each table, by action; it is
    empty without a selection."""

    tables: tuple[Table, ...]
    references: tuple[Reference, ...]
    cycles: tuple[tuple[Table, ...], ...]
    counts: Mapping[Table, Mapping[Action, int]] = field(default_factory=dict)
    cautions: tuple[Caution, ...] = ()


def make_map(schema: Schema, root: Table | None, reach: Reach | None = None) -> TableMap:
    """Map the whole database, or `root` with everything that depends on it, with the counts of a
    reach of it."""
    shown = set(schema.tables) if root is None else _find_dependents(schema, root)
    chosen = [table for table in schema.tables if table.kind == "table" and table in shown]
    inner = [
        reference
        for reference in schema.references
        if {reference.child, reference.parent} <= set(chosen)
    ]
    edges = [(reference.child, reference.parent) for reference in inner if not reference.is_self]
    parts = find_components(chosen, edges)
    tables = tuple(table for part in parts for table in part)
    concealed = [table for table in tables if table.name in schema.hidden]
    return TableMap(
        tables,
        tuple(inner),
        tuple(_find_cycles(parts, inner)),
        _count_actions(reach) if reach else {},
        tuple(hidden_reference(table, schema.hidden[table.name]) for table in concealed),
    )


def _find_cycles(
    parts: Sequence[Sequence[Table]], references: Sequence[Reference]
) -> list[tuple[Table, ...]]:
    """Tables that reference each other, and those that reference themselves."""
    cycles = [tuple(part) for part in parts if len(part) > 1]
    cycles += [(reference.child,) for reference in references if reference.is_self]
    return list(dict.fromkeys(cycles))


def _find_dependents(schema: Schema, root: Table) -> set[Table]:
    """A table with every table that depends on it."""
    found = {root}
    waiting = [root]
    while waiting:
        for reference in schema.incoming(waiting.pop()):
            if reference.child not in found:
                found.add(reference.child)
                waiting.append(reference.child)
    return found


def _count_actions(reach: Reach) -> dict[Table, dict[Action, int]]:
    counts: dict[Table, dict[Action, int]] = {}
    for part in reach.parts:
        counts.setdefault(part.table, {})[part.action] = part.rows
    for stop in reach.stops:
        here = counts.setdefault(stop.table, {})
        here[Action.STOP] = here.get(Action.STOP, 0) + stop.rows
    return counts
