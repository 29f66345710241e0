"""The proof of what a run did: each table counted, and what the database counted beside it."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterable, Iterator, Sequence

from msgspec import Struct, field

from yeldro.core.database.abilities import Effect
from yeldro.core.database.change_counts import Changes, TableChanges
from yeldro.core.database.connection import Database
from yeldro.core.database.phase import Phase
from yeldro.core.model.action import Action
from yeldro.core.model.key_set import AlikeRows, DependentRows, KeySet, Mark, WholeTable
from yeldro.core.model.schema import Reference, Table
from yeldro.core.reach.engine_checks import is_proven, runs_triggers
from yeldro.core.reach.reach import Change, Reach
from yeldro.core.run.allowed import credit
from yeldro.core.run.tally import Cause, Line


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


class Done(Struct):
    """How many rows the statements of a run touched, as the database said to each, by table: those
    that it deleted, and those that it changed."""

    deleted: Counter[Table] = field(default_factory=Counter)
    changed: Counter[Table] = field(default_factory=Counter)

    @property
    def total(self) -> int:
        """As a database counts that counts in total only."""
        touched = self.deleted + self.changed
        return sum(rows * table.weight for table, rows in touched.items())


class Counted:
    """The tables into which references were looked for, because the database proves nothing of
    them, or because `everything` is counted."""

    def __init__(self, database: Database, *, everything: bool) -> None:
        self.database = database
        self.everything = everything
        self.tables: set[Table] = set()

    def must_look(self, reference: Reference) -> bool:
        """Whether the database may have let rows point at nothing."""
        proven = is_proven(self.database, reference) and not self.everything
        if not proven:
            self.tables.update((reference.parent, reference.child))
        return not proven


def find_vouched(
    database: Database, reach: Reach, changed: Changes, done: Done, effects: Sequence[Effect]
) -> set[Table]:
    """The tables of which the database's own counts say all there is to say: nothing but our
    statements touched them, each touched what it should, and no trigger was there to falsify it."""
    if effects or has_unnamed_rows(reach):
        return set()
    tables = {part.table for part in reach.parts}
    free = {table for table in tables if not runs_triggers(database, table)}
    wanted = _count_wanted(reach)
    right = {table for table in free if done.deleted[table] == wanted[table]}
    if changed.tables is not None:
        return {table for table in right if _is_counted_so(changed.of(table), wanted[table])}
    # Counted in total only: then nothing else may have happened anywhere. A row that another one
    # replaces as it changes (ON CONFLICT REPLACE) is in no count.
    agrees = right == tables and done.total == changed.total
    return {table for table in right if agrees and not done.changed[table]}


def has_unnamed_rows(reach: Reach) -> bool:
    """Whether rows go of which no statement of their own tells how many they were."""
    unnamed = any(isinstance(keys, WholeTable | AlikeRows) for keys, _ in reach.deleted)
    return unnamed or bool(reach.late)


def _is_counted_so(counted: TableChanges, wanted: int) -> bool:
    return (counted.inserted, counted.deleted) == (0, wanted)


def _count_wanted(reach: Reach) -> Counter[Table]:
    """How many rows of each table are to go."""
    wanted = Counter[Table]()
    for keys, rows in reach.deleted:
        wanted[keys.table] += rows
    return wanted


def find_dangling(database: Database, reach: Reach, counted: Counted) -> dict[Table, int]:
    """The tables with rows that point at a row that is gone, over every reference that the run
    could have broken and that the database does not prove to be whole."""
    found: Counter[Table] = Counter()
    lost = [pair for change in reach.changes for pair in _find_lost(database, change)]
    for table, rows in [*_find_left(database, reach, counted), *lost]:
        found[table] += rows
    for detachment in reach.detached:
        if detachment.treatment.to_default:
            rows = database.count_dangling(detachment.reference, detachment.keys)
            found[detachment.reference.child] += rows
    return {table: rows for table, rows in found.items() if rows}


def _find_left(database: Database, reach: Reach, counted: Counted) -> Iterator[tuple[Table, int]]:
    """The rows that point at one that is gone."""
    fills = [change for change in reach.changes if change.action is Action.FILL]
    handed_over = {name for change in fills for name in change.columns}
    for keys, _ in reach.deleted:
        for reference in database.schema.incoming(keys.table):
            # The engine itself cannot say what such a reference points at.
            if reference.broken or not counted.must_look(reference):
                continue
            database.announce(Phase.CHECKING, reference.child.label, None)
            # A value that a kept row took over from a row that goes is still there.
            is_kept = bool(handed_over & set(reference.referred))
            count = database.count_lost if is_kept else database.count_left
            yield reference.child, count(reference, keys)


def _find_lost(database: Database, change: Change) -> Iterator[tuple[Table, int]]:
    """The rows that point at a value which was cleared, and those that the new one leaves pointing
    at nothing."""
    columns = set(change.columns) if change.action is Action.CLEAR else set()
    for reference in database.schema.incoming(change.table):
        if set(reference.referred) & columns and not reference.broken:
            yield reference.child, database.count_lost(reference, change.keys)
    for reference in database.schema.outgoing(change.table):
        if set(reference.columns) & columns and not reference.broken:
            yield change.table, database.count_dangling(reference, change.keys)


class TableAccount:
    """What a run did to the rows of one table, found in the table itself.

    `counted` is what the database counted there, None where it does not count by table; `crossing`
    are rows that an update took to another partition, which count as deleted and as inserted.
    """

    def __init__(
        self, database: Database, reach: Reach, table: Table, changed: Changes, done: Done
    ) -> None:
        self.database = database
        self.reach = reach
        self.table = table
        self.counted = changed.of(table) if changed.tables is not None else None
        self.done = TableChanges(0, done.changed[table], done.deleted[table])
        self.crossing = self._count_crossing()
        self.is_vouched = self.was_counted = False
        self.deleted = [(keys, rows) for keys, rows in reach.deleted if keys.table is table]

    def make_line(self, before: int, dangling: int, may_insert: bool) -> Line:
        """The line of the table. `dangling` of its rows point at a row that is gone."""
        to_delete = sum(rows for _, rows in self.deleted)
        deleted = to_delete
        if not self.is_vouched:
            deleted = sum(self._count_gone(keys, rows, dangling) for keys, rows in self.deleted)
        to_detach = self._count_expected(Action.DETACH)
        to_fill, to_clear = map(self._count_expected, (Action.FILL, Action.CLEAR))
        to_move, moved, undetached = self._look_at_moves()
        undetached += self._count_attached()
        after = before - deleted
        if not self.is_vouched:
            after = self.database.count_rows(self.table)
        inserted = 0
        if self.counted:
            # The engine counts by table, so what triggers inserted needs no guess.
            inserted = self.counted.inserted - self.crossing
        elif may_insert:
            # It does not count by table: more rows than should be left can only be theirs.
            inserted = max(0, after - (before - deleted))
        return Line(
            self.table,
            before,
            after,
            to_delete,
            to_detach,
            deleted,
            to_detach - undetached,
            inserted,
            dangling,
            to_move=to_move,
            moved=moved,
            to_fill=to_fill,
            filled=to_fill - self._count_undone(Action.FILL),
            to_clear=to_clear,
            cleared=to_clear - self._count_undone(Action.CLEAR),
            by_engine=self.is_vouched and not self.was_counted,
        )

    def explain(self, line: Line) -> int:
        """How many changes that the database counted the line accounts for, beyond those of the
        statements that were sent."""
        truncated = any(isinstance(keys, WholeTable) for keys, _ in self.deleted)
        return self.crossing + (0 if truncated else line.deleted) + line.by_triggers

    def credit(self, line: Line) -> Line:
        """With what triggers did that are allowed to."""
        own = TableChanges(0, self.done.updated, line.deleted + self.crossing)
        return credit(line, self.counted, own)

    def _count_crossing(self) -> int:
        if not self.counted or not self.table.parts:
            return 0
        gone = sum(rows for keys, rows in self.reach.deleted if keys.table is self.table)
        parts = [part for part in self.reach.parts if part.table is self.table]
        stayed = sum(part.rows for part in parts if part.action is not Action.DELETE)
        return min(stayed, self.counted.inserted, max(0, self.counted.deleted - gone))

    def _count_expected(self, action: Action) -> int:
        parts = [part for part in self.reach.parts if part.table is self.table]
        return sum(part.rows for part in parts if part.action is action)

    def _count_gone(self, keys: KeySet, rows: int, dangling: int) -> int:
        """How many rows of a key set are not there any more."""
        counted = self.counted
        if counted and counted.inserted == self.crossing:
            # Where exactly these rows were deleted and none inserted, no deleted key can be left.
            if counted.deleted - self.crossing == rows == self.done.deleted:
                return rows
        if isinstance(keys, DependentRows):
            # They are there while they point at what is gone, which was counted already; or where
            # what they point at is there too.
            gone = rows - dangling
            return min(gone, counted.deleted - self.crossing) if counted else gone
        return rows - self.database.count_present(keys)

    def _find_changes(self, action: Action) -> list[Change]:
        changes = self.reach.changes
        return [one for one in changes if one.table is self.table and one.action is action]

    def _look_at_moves(self) -> tuple[int, int, int]:
        """Rows to be moved, and moved; rows that should have been taken off and were not."""
        to_move = moved = undetached = 0
        for change in self._find_changes(Action.MOVE):
            found = self.database.replacing.count_changed(change.keys, change.columns)
            to_move = change.rows - change.detached
            undetached += change.detached - found.pop(Mark.DETACHED, 0)
            moved = sum(found.values())
        return to_move, moved, undetached

    def _count_undone(self, action: Action) -> int:
        """Rows that should have been filled, or cleared, and were not."""
        return sum(change.rows - self._count_done(change) for change in self._find_changes(action))

    def _count_done(self, change: Change) -> int:
        replacing = self.database.replacing
        if change.action is Action.CLEAR:
            return replacing.count_cleared(change.keys, change.columns)
        return sum(replacing.count_changed(change.keys, change.columns).values())

    def _count_attached(self) -> int:
        """Rows that should have been detached and still point at something."""
        attached = 0
        for detachment in self.reach.detached:
            reference, treatment = detachment.reference, detachment.treatment
            if reference.child is self.table:
                columns = treatment.columns
                cleared = self.database.count_detached(
                    reference, columns, detachment.keys, treatment.to_default
                )
                attached += detachment.rows - cleared
        return attached


def find_causes(
    effects: Iterable[Effect], tables: Iterable[Table], events: str = "DELETE|UPDATE"
) -> list[Cause]:
    """The triggers that may be behind a difference."""
    named = dict.fromkeys((effect.trigger, effect.verb, effect.table.label) for effect in effects)
    verbs = {"insert": "inserts into", "update": "updates", "delete": "deletes from"}
    # An insert explains an audit log, not a missing row: others are named first.
    loud = [entry for entry in named if entry[1] != "insert"] or list(named)
    foreseen = {name for name, _, _ in named}
    others = [
        Cause(
            trigger.name,
            f"the {'rule' if 'RULE' in trigger.event else 'trigger'} {trigger.name} on "
            f"{table.label}",
        )
        for table in tables
        for trigger in table.triggers
        if trigger.enabled and trigger.name not in foreseen and re.search(events, trigger.event)
    ]
    return [
        Cause(name, f"the trigger {name}, which {verbs[verb]} {label}")
        for name, verb, label in loud
    ] + others
