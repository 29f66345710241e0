"""One run inside an open transaction: delete, compare, and say whether it may be committed. It commits nothing."""

from __future__ import annotations

from collections.abc import Iterable

from yeldro.core.database import Database, Effect
from yeldro.core.plan import Plan, Step, Verb
from yeldro.core.reach import Action, Reach
from yeldro.core.schema import Table, TableName
from yeldro.core.tally import Line, Tally


def run_plan(database: Database, plan: Plan) -> Tally:
    """Perform every step on the frozen keys, then prove what happened. The caller commits only a balanced tally."""
    reach = plan.reach
    effects = [effect for step in plan.steps for effect in _effects(database, step)]
    tables = _touched(reach, effects)
    before = {table.name: database.count_rows(table) for table in tables}
    start = database.find_changes()
    unlinked = _perform_all(database, plan)
    database.force_checks()
    changed = database.find_changes().total - start.total
    dangling = _find_dangling(database, reach)
    for table in dangling:
        if table.name not in before:
            tables.append(table)
            before[table.name] = database.count_rows(table)
    lines = tuple(
        _account(database, reach, table, before[table.name], effects, dangling.get(table, 0)) for table in tables
    )
    # Every detaching statement touches its rows once, even where two of them touch the same row.
    detaching = sum(detachment.rows for detachment in reach.detached)
    explained = unlinked + detaching + sum(line.deleted + line.inserted_by_triggers for line in lines)
    return Tally(lines, changed, explained, tuple(_causes(effects, tables)))


def _perform_all(database: Database, plan: Plan) -> int:
    """Perform the steps, up to one that does not do what it should. Returns how many rows were unlinked."""
    unlinked = 0
    together = [step.keys for step in plan.steps if step.verb is Verb.DELETE] if plan.reach.late else []
    for step in plan.steps:
        if step.verb is Verb.DELETE and together:
            continue
        done = _perform(database, step)
        if step.verb is Verb.UNLINK:
            unlinked += done
        elif done != step.rows:
            # Something resists: the account says what, before the database refuses a later step.
            return unlinked
    if together:
        database.delete_together(together)
    return unlinked


def _perform(database: Database, step: Step) -> int:
    if step.verb is Verb.DELETE:
        return database.delete(step.keys)
    assert step.reference is not None
    if step.verb is Verb.UNLINK:
        return database.unlink(step.reference, step.keys)
    return database.detach(step.reference, step.columns, step.keys, step.to_default)


def _effects(database: Database, step: Step) -> tuple[Effect, ...]:
    return database.find_effects(step.table, None if step.verb is Verb.DELETE else step.columns)


def _touched(reach: Reach, effects: Iterable[Effect]) -> list[Table]:
    """The tables of the reach in deletion order, then those that triggers may write to."""
    tables: dict[TableName, Table] = {}
    for part in reach.parts:
        tables.setdefault(part.table.name, part.table)
    for effect in effects:
        tables.setdefault(effect.table.name, effect.table)
    return list(tables.values())


def _find_dangling(database: Database, reach: Reach) -> dict[Table, int]:
    """The tables with rows that point at a row that is gone, over every reference that the run could have broken."""
    found: dict[Table, int] = {}
    for keys, _ in reach.deleted:
        for reference in database.schema.incoming(keys.table):
            if not reference.broken and (rows := database.count_referencing(reference, keys, None)):
                found[reference.child] = found.get(reference.child, 0) + rows
    for detachment in reach.detached:
        if detachment.treatment.to_default:
            child = detachment.reference.child
            if rows := database.count_dangling(detachment.reference, detachment.keys):
                found[child] = found.get(child, 0) + rows
    return found


def _account(database: Database, reach: Reach, table: Table, before: int, effects: list[Effect], dangling: int) -> Line:
    to_delete = to_detach = deleted = detached = 0
    for keys, rows in reach.deleted:
        if keys.table is table:
            to_delete = rows
            deleted = rows - database.count_present(keys)
    for part in reach.parts:
        if part.table is table and part.action is Action.DETACH:
            to_detach = detached = part.rows
    for detachment in reach.detached:
        if detachment.reference.child is table:
            treatment = detachment.treatment
            cleared = database.count_detached(
                detachment.reference, treatment.columns, detachment.keys, treatment.to_default
            )
            detached -= detachment.rows - cleared
    after = database.count_rows(table)
    may_insert = any(effect.table is table and effect.verb == "insert" for effect in effects)
    inserted = max(0, after - (before - deleted)) if may_insert else 0
    return Line(table, before, after, to_delete, to_detach, deleted, detached, inserted, dangling)


def _causes(effects: Iterable[Effect], tables: list[Table]) -> Iterable[str]:
    """Triggers that do more than insert, or write to the tables themselves, in a form for the end of a sentence."""
    named = dict.fromkeys((effect.trigger, effect.verb, effect.table.label) for effect in effects)
    verbs = {"insert": "inserts into", "update": "updates", "delete": "deletes from"}
    loud = [entry for entry in named if entry[1] != "insert"] or list(named)
    resisting = [
        f"the trigger {trigger.name} on {table.label}"
        for table in tables
        for trigger in table.triggers
        if trigger.enabled and "BEFORE" in trigger.event
    ]
    return [f"the trigger {name}, which {verbs[verb]} {label}" for name, verb, label in loud] + resisting
