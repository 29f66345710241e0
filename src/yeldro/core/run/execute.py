"""One run inside an open transaction: delete, compare, and say whether it may be committed. It
commits nothing."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping

from yeldro.core.database.abilities import Effect
from yeldro.core.database.change_counts import Changes
from yeldro.core.database.connection import Database
from yeldro.core.database.phase import Phase
from yeldro.core.model.key_set import WholeTable
from yeldro.core.model.schema import Table
from yeldro.core.reach.engine_checks import runs_triggers
from yeldro.core.reach.reach import Reach
from yeldro.core.run.allowed import find_allowed, share_out
from yeldro.core.run.plan import Plan, Step, Verb
from yeldro.core.run.proof import (
    Counted,
    Done,
    TableAccount,
    find_causes,
    find_dangling,
    find_replaced,
    find_strangers,
    find_unknown,
    find_vouched,
    has_unnamed_rows,
    may_insert,
)
from yeldro.core.run.staying import find_altered, find_staying
from yeldro.core.run.tally import Tally


def run_plan(
    database: Database,
    plan: Plan,
    *,
    recount: bool = False,
    known: Mapping[Table, int] | None = None,
    allowed: frozenset[str] = frozenset(),
) -> Tally:
    """Perform every step on the frozen keys, then prove what happened. The caller commits only a
    balanced tally.

    What the database itself proves is not counted again, unless a `recount` is asked for. `known`
    is how many rows there were after earlier batches: it stands for a count beforehand where the
    database proves what becomes of a table. `allowed` are triggers that may do more than the run.
    """
    reach = plan.reach
    # What triggers may write to is asked before anything runs, so that those tables are counted
    # before, too.
    effects = [effect for step in plan.steps for effect in _effects(database, step)]
    database.announce(Phase.CHECKING, reach.selection.table.label, None)
    told = {} if recount or effects else _find_told(database, reach, known or {})
    before = _count_before(database, reach, effects, told)
    staying = find_staying(database, reach)
    # From here on every changed row counts. What is counted above is no change.
    start = database.find_changes()
    done = _perform_all(database, plan)
    # Deferred references must fail now, inside the proof, and not in the COMMIT after it.
    database.force_checks()
    changed = database.find_changes().since(start)
    altered = dict.fromkeys(table.label for table in find_altered(database, reach, staying))
    # A table that nothing of ours is in can still have lost what its rows point at.
    counted = Counted(database, everything=recount)
    dangling = find_dangling(database, reach, counted)
    _count_others(database, before, dangling, changed)
    # An index of ours must not outlive the run, nor count among its changes.
    database.drop_indexes()
    vouched = set() if recount else find_vouched(database, reach, changed, done, effects)
    for table in told.keys() & before.keys() - vouched:
        before[table] = _work_out(database, table, changed, done)
    causes = find_causes(effects, before, "UPDATE" if altered else "DELETE|UPDATE")
    named = find_allowed(causes, allowed)
    accounts = [TableAccount(database, reach, table, changed, done) for table in before]
    lines, explained = [], done.changed
    for account in accounts:
        table = account.table
        account.is_vouched, account.was_counted = table in vouched, table in counted.tables
        line = account.make_line(before[table], dangling.get(table, 0), may_insert(effects, table))
        lines.append(account.credit(line) if named else line)
        explained[table] += account.explain(lines[-1])
    tally = Tally(
        tuple(lines),
        changed.total,
        sum(rows * table.weight for table, rows in explained.items()),
        (*_find_odd(changed, explained, before), *find_unknown(database, changed)),
        tuple(causes),
        tuple(find_replaced(database, changed, _find_emptied(reach))),
        tuple(altered),
        named,
    )
    return tally if changed.tables is not None else share_out(tally, effects)


def _find_emptied(reach: Reach) -> list[Table]:
    return [keys.table for keys, _ in reach.deleted if isinstance(keys, WholeTable)]


def _count_others(
    database: Database, before: dict[Table, int], dangling: Iterable[Table], changed: Changes
) -> None:
    """The tables that nothing of ours is in."""
    for table in dangling:
        before.setdefault(table, database.count_rows(table))
    # Only the engine noticed these: their count before is worked out backwards.
    for table in find_strangers(database, before, changed):
        mine = changed.of(table)
        before[table] = database.count_rows(table) - mine.inserted + mine.deleted


def _count_before(
    database: Database, reach: Reach, effects: Iterable[Effect], told: Mapping[Table, int]
) -> dict[Table, int]:
    return {
        table: told[table] if table in told else _count_rows(database, reach, table)
        for table in _touched(reach, effects)
    }


def _work_out(database: Database, table: Table, changed: Changes, done: Done) -> int:
    """How many rows there were before, backwards: the database does not prove it after all."""
    mine = changed.of(table)
    gone = done.deleted[table] if changed.tables is None else mine.deleted
    return database.count_rows(table) - mine.inserted + gone


def _find_told(database: Database, reach: Reach, known: Mapping[Table, int]) -> dict[Table, int]:
    """The counts of the tables of which the database proves what becomes of them."""
    if has_unnamed_rows(reach):
        return {}
    return {table: rows for table, rows in known.items() if not runs_triggers(database, table)}


def _find_odd(
    changed: Changes, explained: Mapping[Table, int], tables: Iterable[Table]
) -> Iterator[str]:
    """The tables in which the database counted other changes than the lines account for."""
    for table in tables:
        if changed.tables and changed.of(table).total != explained[table]:
            yield table.label


def _count_rows(database: Database, reach: Reach, table: Table) -> int:
    """The rows of the selection's own table were counted in this transaction when it was looked
    at."""
    return reach.table_rows if table is reach.selection.table else database.count_rows(table)


def _perform_all(database: Database, plan: Plan) -> Done:
    """Perform the steps, up to one that does not do what it should.

    Every detaching statement touches its rows once, even where two of them touch the same row.
    """
    # Without an index the engine would look through a large table for each deleted row.
    for reference in plan.scanned:
        database.build_index(reference)
    found = Done()
    deleted = [step.keys for step in plan.steps if step.verb is Verb.DELETE]
    # Rows that reference each other for ever go in one statement, after everything else.
    together = deleted if plan.reach.late else []
    for step in plan.steps:
        if step.verb is Verb.DELETE and together:
            continue
        done = _perform(database, step, plan.reach)
        (found.deleted if step.verb is Verb.DELETE else found.changed)[step.table] += done
        if step.rows is not None and done != step.rows:
            # Something resists: the account says what, before the database refuses a later step.
            return found
    if together:
        database.announce(Phase.DELETING, together[0].table.label, None)
        database.delete_together(together)
    return found


def _perform(database: Database, step: Step, reach: Reach) -> int:
    removes = step.verb in (Verb.DELETE, Verb.TRUNCATE)
    phase = Phase.DELETING if removes else Phase.CHANGING
    database.announce(phase, step.table.label, step.rows)
    if step.verb is Verb.DELETE:
        if reach.unasked:
            return database.delete_selected(reach.selection, step.keys)
        return database.delete(step.keys)
    if step.verb is Verb.TRUNCATE:
        return database.truncate(step.table, restart=reach.selection.restart_numbers)
    if step.verb in (Verb.MOVE, Verb.FILL, Verb.CLEAR, Verb.ARRIVE):
        return database.replacing.change(
            step.keys, step.columns, step.waits, late=step.verb is Verb.ARRIVE
        )
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
    own = [part.table for part in reach.parts]
    return list(dict.fromkeys([*own, *(effect.table for effect in effects)]))
