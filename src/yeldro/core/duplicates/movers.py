"""Which rows may be moved or filled, and which columns that takes: from the schema alone."""

from __future__ import annotations

from collections.abc import Sequence

from yeldro.core.model.action import Action
from yeldro.core.model.schema import Reference, Schema, Table, TableName
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


def find_pointing(references: Sequence[Reference]) -> set[str]:
    """The columns in which a row that is moved gets other values."""
    return {name for reference in references for name in reference.columns}
