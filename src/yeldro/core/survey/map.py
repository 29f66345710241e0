"""The tables of a database in deletion order, and what references what."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from yeldro.core.cautions.caution import Caution
from yeldro.core.cautions.of_schema import hidden_reference
from yeldro.core.model.graph import find_components
from yeldro.core.model.schema import Reference, Schema, Table
from yeldro.core.reach.reach import Reach
from yeldro.core.reach.rules import Action


@dataclass(frozen=True, slots=True, eq=False)
class TableMap:
    """`tables` stand children first. A circle is a set of tables that reference each other, or one
    that references itself. `counts` holds what a selection would do to each table, by action; it is
    empty without a selection."""

    tables: tuple[Table, ...]
    references: tuple[Reference, ...]
    circles: tuple[tuple[Table, ...], ...]
    counts: Mapping[Table, Mapping[Action, int]] = field(default_factory=dict)
    cautions: tuple[Caution, ...] = ()


def make_map(schema: Schema, root: Table | None, reach: Reach | None = None) -> TableMap:
    """Map the whole database, or `root` with everything that hangs on it, with the counts of a
    reach of it."""
    chosen = [table for table in schema.tables if table.kind == "table"]
    if root is not None:
        found = {root}
        waiting = [root]
        while waiting:
            for reference in schema.incoming(waiting.pop()):
                if reference.child not in found:
                    found.add(reference.child)
                    waiting.append(reference.child)
        chosen = [table for table in chosen if table in found]
    references = tuple(
        one for one in schema.references if one.child in chosen and one.parent in chosen
    )
    edges = [(one.child, one.parent) for one in references if not one.is_self]
    parts = find_components(chosen, edges)
    circles = [tuple(part) for part in parts if len(part) > 1]
    circles += [(one.child,) for one in references if one.is_self]
    counts: dict[Table, dict[Action, int]] = {}
    for part in reach.parts if reach else ():
        counts.setdefault(part.table, {})[part.action] = part.rows
    for stop in reach.stops if reach else ():
        here = counts.setdefault(stop.table, {})
        here[Action.STOP] = here.get(Action.STOP, 0) + stop.rows
    tables = tuple(table for part in parts for table in part)
    hidden = tuple(
        hidden_reference(one, schema.hidden[one.name])
        for one in tables
        if one.name in schema.hidden
    )
    return TableMap(tables, references, tuple(dict.fromkeys(circles)), counts, hidden)
