"""Which rows may be moved or filled, and which columns that takes: from the schema alone."""

from __future__ import annotations

from collections.abc import Sequence

from yeldro.core.model.action import Action
from yeldro.core.model.schema import Reference, Schema, Table, TableName, Unique
from yeldro.core.reach.rules import Rules


def is_movable(table: Table) -> bool:
    return bool(table.identity) and not (table.shares_identity or table.refusal)


def find_movers(schema: Schema, root: Table, rules: Rules) -> dict[TableName, list[Reference]]:
    """The tables whose rows may move, each with the references that may be pointed at other rows:
    those into the table itself, and into tables that may lose rows because they collide."""
    found: dict[TableName, list[Reference]] = {}
    waiting, seen = [root], {root.name}
    while waiting:
        for reference in schema.incoming(waiting.pop()):
            child = reference.child
            if reference.broken or rules.treatment(reference).action is not Action.MOVE:
                continue
            found.setdefault(child.name, []).append(reference)
            if rules.drops(child) and child.name not in seen:
                seen.add(child.name)
                waiting.append(child)
    return found


def find_new(table: Table, references: Sequence[Reference]) -> tuple[str, ...]:
    """The columns of which a moved row has new values, and those that are unique together with
    them."""
    changing = {name for reference in references for name in reference.columns}
    wanted = changing | {
        name for one in unique_with(table, changing) if not one.parts for name in one.columns
    }
    return tuple(name for name in table.column_names if name in wanted)


def unique_with(table: Table, changing: set[str]) -> list[Unique]:
    return [unique for unique in table.uniques if unique.uses & changing]
