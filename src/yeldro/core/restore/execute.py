"""Putting archived rows back: what would happen, and the work itself inside an open transaction."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from itertools import groupby

from yeldro.core.database.archive_format import Stage
from yeldro.core.database.connection import Database, Effect
from yeldro.core.model.schema import Table
from yeldro.core.restore.plan import (
    RestorePart,
    RestorePlan,
    find_parentless,
    find_refusals,
    in_order,
    look_at_step,
)
from yeldro.core.run.proof import find_causes, find_replaced, find_strangers, find_unknown
from yeldro.core.run.tally import Line, Tally, add_tallies
from yeldro.errors import Refused


def run_restore(database: Database, plan: RestorePlan, *, keep_differing: bool = False) -> Tally:
    """Put the rows back, then prove it. The caller commits only a balanced tally.

    Several steps are undone one after the other, the last one first. Refused where that is known to
    be impossible only in the middle of it.
    """
    tallies = []
    for _, group in groupby(plan.parts, lambda part: part.stage.portion.step):
        parts = list(group)
        if any(part.waits for part in parts):
            parts = list(look_at_step(database, [part.stage for part in parts]))
            for refusal in (
                refusal for part in parts for refusal in find_refusals(part, keep_differing)
            ):
                raise Refused(refusal)
        tallies.append(_undo_step(database, parts))
    return add_tallies(tallies)


def _undo_step(database: Database, parts: Sequence[RestorePart]) -> Tally:
    """A kept row gives back what was filled in before the rows come back that it was taken from."""
    back = {part.stage: part for part in parts if not part.is_change and part.to_do}
    again = [part for part in parts if part.is_change and (part.to_do or part.stage.portion.waits)]
    for stage, part in back.items():
        if part.standing.there:
            database.keep_absent(stage)
    effects = [
        effect for stage in back for effect in database.find_effects(stage.table, None, "insert")
    ]
    for part in again:
        effects += database.find_effects(part.table, part.stage.portion.changed)
    touched = dict.fromkeys([*(stage.table for stage in back), *(part.table for part in again)])
    touched.update(dict.fromkeys(effect.table for effect in effects))
    staged = {
        table: [stage for stage in _stages(back, again) if stage.table is table]
        for table in touched
    }
    before = {table: database.count_rows(table) for table in touched}
    # Where a trigger may write to rows, what counts is whether any but the restored ones are other
    # rows in the end.
    foreseen = dict.fromkeys(effect.table for effect in effects if effect.verb != "insert")
    others = {table: database.digest_others(table, staged[table]) for table in foreseen}
    start = database.find_changes()
    done: Counter[Table] = Counter()
    for part in again:
        if part.stage.portion.waits:
            done[part.table] += database.empty_waiting(part.stage)
    filled = [part for part in again if part.stage.portion.action == "fill"]
    for part in filled:
        done[part.table] += database.reattach(part.stage)
    for group in in_order(database, list(back)):
        counts = [database.insert(group[0])] if len(group) == 1 else database.insert_together(group)
        done.update(dict(zip((stage.table for stage in group), counts, strict=True)))
    for part in again:
        if part not in filled:
            done[part.table] += database.reattach(part.stage)
    database.force_checks()
    changed = database.find_changes().since(start)
    for table in find_strangers(database, before, changed):
        mine = changed.of(table)
        before[table] = database.count_rows(table) - mine.inserted + mine.deleted
    lines = [
        _account(database, table, rows, back, again, effects) for table, rows in before.items()
    ]
    for line in lines:
        done[line.table] += line.inserted_by_triggers
    explained = sum(rows * table.weight for table, rows in done.items())
    if changed.tables is not None:
        for table in touched:
            more = changed.of(table).total - done[table]
            explained += more if more and not database.count_touched(table, staged[table]) else 0
    elif (
        all(
            database.digest_others(table, staged[table]) == digest
            for table, digest in others.items()
        )
        and others
    ):
        explained = max(explained, changed.total)
    database.advance_counters(list(back))
    causes = tuple(find_causes(effects, before, "INSERT|UPDATE"))
    replaced = tuple(find_replaced(database, changed))
    return Tally(
        tuple(lines),
        changed.total,
        explained,
        tuple(find_unknown(database, changed)),
        causes,
        replaced,
    )


def _stages(back: Mapping[Stage, RestorePart], again: Sequence[RestorePart]) -> list[Stage]:
    return [*back, *(part.stage for part in again)]


def _account(
    database: Database,
    table: Table,
    before: int,
    back: Mapping[Stage, RestorePart],
    changes: Sequence[RestorePart],
    effects: Sequence[Effect],
) -> Line:
    """The line of one table: rows count as restored only if they are there with the same bytes."""
    mine = [part for part in back.values() if part.table is table]
    again = [part for part in changes if part.table is table]
    inserted = sum(_count_whole(database, part) for part in mine)
    attached = sum(_count_attached(database, part) for part in again)
    parentless = 0
    for part in (*mine, *again):
        for reference, rows in find_parentless(database, part.stage, ()):
            parentless += max(0, rows - (part.stage.portion.orphans or {}).get(str(reference), 0))
    after = database.count_rows(table)
    by_triggers = after - before - inserted
    return Line(
        table,
        before,
        after,
        inserted_by_triggers=max(0, by_triggers) if _may_insert(database, effects, table) else 0,
        dangling=parentless,
        to_restore=sum(part.to_do - part.again for part in (*mine, *again)),
        inserted=inserted,
        reattached=attached - sum(part.again for part in again),
        differing=_find_differing(database, mine)
        if inserted != sum(part.to_do for part in mine)
        else (),
    )


def _find_differing(database: Database, parts: Sequence[RestorePart]) -> tuple[str, ...]:
    found = dict.fromkeys(name for part in parts for name in database.find_differing(part.stage))
    return tuple(found)


def _may_insert(database: Database, effects: Sequence[Effect], table: Table) -> bool:
    """Where an engine does not foresee what triggers do, its own count by table tells it."""
    foreseen = any(effect.table is table and effect.verb == "insert" for effect in effects)
    return foreseen or database.find_changes().tables is not None


def _count_whole(database: Database, part: RestorePart) -> int:
    """Without a key all rows that look like an archived one are counted, those that stayed
    included."""
    whole = database.count_whole(part.stage)
    if part.stage.key:
        return whole
    alike = part.stage.portion.alike
    assert alike is not None
    return whole - (alike - part.standing.rows)


def _count_attached(database: Database, part: RestorePart) -> int:
    """Detached rows that point at what they pointed at, unless something else of a row changed with
    that."""
    after = database.stand(part.stage)
    altered = part.standing.whole - database.count_whole(part.stage) if part.stage.key else 0
    return after.same - part.standing.same - max(0, altered)
