"""The proof of what a run did: each table counted, and what the database counted beside it."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Sequence

from yeldro.core.database.connection import Changes, Database, Effect, Mark, TableChanges
from yeldro.core.model.schema import Table
from yeldro.core.reach.reach import Reach
from yeldro.core.reach.rules import Action
from yeldro.core.run.tally import Line


def find_strangers(database: Database, known: Iterable[Table], changed: Changes) -> list[Table]:
    """Tables in which the database counted changes although nothing of ours is in them."""
    names = {name for table in known for name in (table.name, *table.parts)}
    others = [name for name in changed.tables or () if name not in names]
    return [database.schema.by_name[name] for name in others if name in database.schema.by_name]


def find_unknown(database: Database, changed: Changes) -> Iterator[str]:
    """Tables that the schema does not hold, in which the database counted changes: those of large
    objects."""
    for name, one in (changed.tables or {}).items():
        if one.total and name not in database.schema.by_name:
            yield f"{name.schema}.{name.name}"


def find_replaced(
    database: Database, changed: Changes, emptied: Sequence[Table] = ()
) -> Iterator[str]:
    """Tables that were emptied, rebuilt or dropped as a whole, but for those that the run was to
    empty."""
    own = {name for table in emptied for name in (table.name, *table.parts)}
    for name in changed.replaced:
        if name not in own:
            table = database.schema.by_name.get(name)
            yield table.label if table else f"{name.schema}.{name.name}"


def may_insert(effects: Iterable[Effect], table: Table) -> bool:
    return any(effect.table is table and effect.verb == "insert" for effect in effects)


def find_dangling(database: Database, reach: Reach) -> dict[Table, int]:
    """The tables with rows that point at a row that is gone, over every reference that the run
    could have broken."""
    found: dict[Table, int] = {}
    for keys, _ in reach.deleted:
        for reference in database.schema.incoming(keys.table):
            handed_over = {
                name
                for change in reach.changes
                if change.action is Action.FILL
                for name in change.columns
            }
            count = (
                database.count_lost
                if handed_over & set(reference.referred)
                else database.count_left
            )
            if not reference.broken and (rows := count(reference, keys)):
                found[reference.child] = found.get(reference.child, 0) + rows
    for detachment in reach.detached:
        if detachment.treatment.to_default:
            child = detachment.reference.child
            if rows := database.count_dangling(detachment.reference, detachment.keys):
                found[child] = found.get(child, 0) + rows
    return found


def make_line(
    database: Database,
    reach: Reach,
    table: Table,
    before: int,
    may_insert: bool,
    counted: TableChanges | None,
    dangling: int,
) -> Line:
    """The line of one table. `counted` is what the database itself counted there, None where it
    does not."""
    to_delete = to_detach = deleted = detached = 0
    for keys, rows in reach.deleted:
        if keys.table is table:
            to_delete = rows
            # Where exactly these rows were deleted and none inserted, no deleted key can be left.
            crossing = count_crossing(reach, table, counted)
            is_gone = (
                counted is not None
                and counted.inserted == crossing
                and counted.deleted - crossing == rows
            )
            # Rows that hang on others are there while they point at what is gone, which was counted
            # already.
            left = 0 if is_gone else dangling if keys.hangs else database.count_present(keys)
            deleted = rows - left
    to_move = moved = to_fill = filled = 0
    for part in reach.parts:
        if part.table is table and part.action is Action.DETACH:
            to_detach += part.rows
        if part.table is table and part.action is Action.FILL:
            to_fill = filled = part.rows
    detached = to_detach
    for change in reach.changes:
        if change.table is table:
            found = database.count_changed(change.keys, change.columns)
            if change.action is Action.FILL:
                filled -= change.rows - sum(found.values())
            else:
                to_move = change.rows - change.detached
                detached -= change.detached - found.pop(Mark.DETACHED, 0)
                moved = sum(found.values())
    for detachment in reach.detached:
        if detachment.reference.child is table:
            treatment = detachment.treatment
            cleared = database.count_detached(
                detachment.reference, treatment.columns, detachment.keys, treatment.to_default
            )
            detached -= detachment.rows - cleared
    after = database.count_rows(table)
    crossing = count_crossing(reach, table, counted)
    inserted = (
        counted.inserted - crossing
        if counted
        else max(0, after - (before - deleted))
        if may_insert
        else 0
    )
    return Line(
        table,
        before,
        after,
        to_delete,
        to_detach,
        deleted,
        detached,
        inserted,
        dangling,
        to_move=to_move,
        moved=moved,
        to_fill=to_fill,
        filled=filled,
    )


def count_crossing(reach: Reach, table: Table, counted: TableChanges | None) -> int:
    """Rows of a partitioned table that an update took to another partition: counted as deleted and
    as inserted."""
    gone = sum(rows for keys, rows in reach.deleted if keys.table is table)
    stayed = sum(
        part.rows
        for part in reach.parts
        if part.table is table and part.action is not Action.DELETE
    )
    return (
        min(stayed, counted.inserted, max(0, counted.deleted - gone))
        if counted and table.parts
        else 0
    )


def find_causes(
    effects: Iterable[Effect], tables: Iterable[Table], events: str = "DELETE|UPDATE"
) -> Iterable[str]:
    """Triggers that may be behind a difference, in a form for the end of a sentence."""
    named = dict.fromkeys((effect.trigger, effect.verb, effect.table.label) for effect in effects)
    verbs = {"insert": "inserts into", "update": "updates", "delete": "deletes from"}
    loud = [entry for entry in named if entry[1] != "insert"] or list(named)
    foreseen = {name for name, _, _ in named}
    others = [
        f"the {'rule' if 'RULE' in trigger.event else 'trigger'} {trigger.name} on {table.label}"
        for table in tables
        for trigger in table.triggers
        if trigger.enabled and trigger.name not in foreseen and re.search(events, trigger.event)
    ]
    return [
        f"the trigger {name}, which {verbs[verb]} {label}" for name, verb, label in loud
    ] + others
