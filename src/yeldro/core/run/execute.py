"""One run inside an open transaction: delete, compare, and say whether it may be committed. It
commits nothing."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterable, Iterator, Sequence

from yeldro.core.database.connection import Changes, Database, Effect, Mark, TableChanges
from yeldro.core.model.schema import Table
from yeldro.core.reach.search import Action, Reach
from yeldro.core.run.plan import Plan, Step, Verb
from yeldro.core.run.tally import Line, Tally


def run_plan(database: Database, plan: Plan) -> Tally:
    """Perform every step on the frozen keys, then prove what happened. The caller commits only a
    balanced tally."""
    reach = plan.reach
    effects = [effect for step in plan.steps for effect in _effects(database, step)]
    before = {table: database.count_rows(table) for table in _touched(reach, effects)}
    start = database.find_changes()
    for reference in plan.scanned:
        database.build_index(reference)
    explained = _perform_all(database, plan)
    database.force_checks()
    changed = database.find_changes().since(start)
    dangling = _find_dangling(database, reach)
    for table in dangling:
        before.setdefault(table, database.count_rows(table))
    for table in find_strangers(database, before, changed):
        mine = changed.of(table)
        before[table] = database.count_rows(table) - mine.inserted + mine.deleted
    database.drop_indexes()
    lines = []
    for table, rows in before.items():
        counted = changed.of(table) if changed.tables is not None else None
        lines.append(
            _account(
                database,
                reach,
                table,
                rows,
                _may_insert(effects, table),
                counted,
                dangling.get(table, 0),
            )
        )
        explained[table] += _count_crossing(reach, table, counted)
        truncated = any(keys.whole and keys.table is table for keys, _ in reach.deleted)
        explained[table] += (0 if truncated else lines[-1].deleted) + lines[-1].inserted_by_triggers
    odd = tuple(
        table.label
        for table in before
        if changed.tables and changed.of(table).total != explained[table]
    )
    weighed = sum(rows * table.weight for table, rows in explained.items())
    causes = tuple(find_causes(effects, before))
    emptied = [keys.table for keys, _ in reach.deleted if keys.whole]
    replaced = tuple(find_replaced(database, changed, emptied))
    return Tally(
        tuple(lines),
        changed.total,
        weighed,
        (*odd, *find_unknown(database, changed)),
        causes,
        replaced,
    )


def _perform_all(database: Database, plan: Plan) -> Counter[Table]:
    """Perform the steps, up to one that does not do what it should. Returns the rows unlinked and
    detached by table.

    Every detaching statement touches its rows once, even where two of them touch the same row.
    """
    changed: Counter[Table] = Counter()
    deleted = [step.keys for step in plan.steps if step.verb is Verb.DELETE]
    together = deleted if plan.reach.late else []
    for step in plan.steps:
        if step.verb is Verb.DELETE and together:
            continue
        done = _perform(database, step)
        if step.verb is not Verb.DELETE:
            changed[step.table] += done
        if step.rows is not None and done != step.rows:
            # Something resists: the account says what, before the database refuses a later step.
            return changed
    if together:
        database.delete_together(together)
    return changed


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


def _may_insert(effects: Iterable[Effect], table: Table) -> bool:
    return any(effect.table is table and effect.verb == "insert" for effect in effects)


def _perform(database: Database, step: Step) -> int:
    if step.verb is Verb.DELETE:
        return database.delete(step.keys)
    if step.verb is Verb.TRUNCATE:
        return database.truncate(step.table)
    if step.verb in (Verb.MOVE, Verb.FILL, Verb.ARRIVE):
        return database.change(step.keys, step.columns, step.waits, late=step.verb is Verb.ARRIVE)
    assert step.reference is not None
    if step.verb is Verb.UNLINK:
        return database.unlink(step.reference, step.keys)
    return database.detach(step.reference, step.columns, step.keys, step.to_default)


def _effects(database: Database, step: Step) -> tuple[Effect, ...]:
    if step.verb is Verb.TRUNCATE and not database.abilities.rolls_back_truncate:
        return ()  # it runs no triggers, and no other table may be looked at meanwhile
    return database.find_effects(step.table, step.columns if step.columns else None)


def _touched(reach: Reach, effects: Iterable[Effect]) -> list[Table]:
    """The tables of the reach in deletion order, then those that triggers may write to."""
    return list(
        dict.fromkeys(
            [*(part.table for part in reach.parts), *(effect.table for effect in effects)]
        )
    )


def _find_dangling(database: Database, reach: Reach) -> dict[Table, int]:
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


def _account(
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
            crossing = _count_crossing(reach, table, counted)
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
    crossing = _count_crossing(reach, table, counted)
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


def _count_crossing(reach: Reach, table: Table, counted: TableChanges | None) -> int:
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
