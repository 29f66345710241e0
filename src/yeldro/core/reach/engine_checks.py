"""What the database proves by itself while rows go."""

from __future__ import annotations

from yeldro.core.database.connection import Database
from yeldro.core.model.schema import Reference, ReferentialAction, Table

_REFUSING = (ReferentialAction.NO_ACTION, ReferentialAction.RESTRICT)


def is_proven(database: Database, reference: Reference) -> bool:
    """Whether no row can point at one that is gone through a reference: the database checks it
    while rows go, and nothing can have kept it from that. What runs for each of the rows may let
    them stay, or add others."""
    if not (reference.declared and reference.enforced and database.keeps(reference)):
        return False
    return not runs_triggers(database, reference.child)


def is_refused(database: Database, reference: Reference) -> bool:
    """Whether the database itself lets no row go that others point at through a reference."""
    if reference.on_delete not in _REFUSING or runs_triggers(database, reference.parent):
        return False
    return is_proven(database, reference)


def runs_triggers(database: Database, table: Table, event: str = "") -> bool:
    """Whether a trigger or a rule of a table, or of one of its partitions, may do something, at any
    event or at one: UPDATE, DELETE."""
    names = {table.name, *table.parts}
    found = [database.schema.by_name[name] for name in names if name in database.schema.by_name]
    return any(
        trigger.enabled and event in trigger.event for one in found for trigger in one.triggers
    )
