"""Putting archived rows back: what would happen, and the work itself inside an open transaction."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from itertools import groupby

from yeldro.core.database.abilities import Effect
from yeldro.core.database.archive_format import Stage
from yeldro.core.database.change_counts import Changes, TableChanges
from yeldro.core.database.connection import Database
from yeldro.core.database.phase import Phase
from yeldro.core.model.action import Action
from yeldro.core.model.schema import Table
from yeldro.core.restore.plan import (
    NotRestorable,
    RestorePart,
    RestorePlan,
    find_parentless,
    find_refusals,
    in_order,
    look_at_step,
)
from yeldro.core.run.allowed import credit, find_allowed, share_out
from yeldro.core.run.proof import find_causes, find_replaced, find_strangers, find_unknown
from yeldro.core.run.tally import Line, Tally, add_tallies


def run_restore(
    database: Database,
    plan: RestorePlan,
    *,
    keep_differing: bool = False,
    allowed: frozenset[str] = frozenset(),
) -> Tally:
    """Put the rows back, then prove it. The caller commits only a balanced tally. `allowed` are
    triggers that may do more than that.

    Several steps are undone one after the other, the last one first. NotRestorable where that is
    known to be impossible only in the middle of it.
    """
    tallies: list[Tally] = []
    for _, group in groupby(plan.parts, lambda part: part.stage.portion.step):
        parts = list(group)
        if any(part.waits for part in parts):
            parts = list(look_at_step(database, [part.stage for part in parts]))
            for part in parts:
                for refusal in find_refusals(part, keep_differing):
                    raise NotRestorable(refusal)
        tallies.append(_Undoing(database, parts, allowed, is_first=not tallies).undo())
    return add_tallies(tallies)


class _Undoing:
    """One step of a run that is undone: rows that come back, and rows that stayed and get their
    old values back."""

    def __init__(
        self,
        database: Database,
        parts: Sequence[RestorePart],
        allowed: frozenset[str],
        *,
        is_first: bool,
    ) -> None:
        self.database = database
        self.allowed = allowed
        self.is_first = is_first
        self.back = {part.stage: part for part in parts if part.to_do and not part.is_change}
        changes = [part for part in parts if part.is_change]
        self.again = [part for part in changes if part.to_do or part.stage.portion.waits]
        self.done: Counter[Table] = Counter()

    def undo(self) -> Tally:
        """Put the rows of the step back, and account for every table that this may have touched."""
        database = self.database
        for stage, part in self.back.items():
            if part.standing.there:
                database.archive.keep_absent(stage)
        effects = list(self._find_effects())
        # Counted before: rows that triggers add are told from those that come back.
        touched = self._find_touched(effects)
        staged = {table: self._stages_of(table) for table in touched}
        before = {table: database.count_rows(table) for table in touched}
        # Where a trigger may write to rows, what counts is whether any but the restored ones are
        # other rows in the end.
        foreseen = dict.fromkeys(effect.table for effect in effects if effect.verb != "insert")
        others = {table: database.archive.digest_others(table, staged[table]) for table in foreseen}
        # What earlier steps put back is not touched by this one.
        marks = {
            table: 0 if self.is_first else database.archive.find_last_change(table)
            for table in staged
        }
        # From here on the database's own count must be explained to the last row.
        start = database.find_changes()
        self._put_back()
        database.force_checks()
        changed = database.find_changes().since(start)
        _count_strangers(database, before, changed)
        causes = find_causes(effects, before, "INSERT|UPDATE")
        named = find_allowed(causes, self.allowed)
        lines = [self._account(table, rows, effects) for table, rows in before.items()]
        lines = [self._credit(line, changed) for line in lines] if named else lines
        for line in lines:
            self.done[line.table] += line.by_triggers
        explained = self._explain(changed, staged, others, marks)
        # After the proof: it touches no row, and what it moves forward no rollback takes back.
        database.archive.advance_counters(list(self.back))
        tally = Tally(
            tuple(lines),
            changed.total,
            explained,
            tuple(find_unknown(database, changed)),
            tuple(causes),
            tuple(find_replaced(database, changed)),
            allowed=named,
        )
        return tally if changed.tables is not None else share_out(tally, effects)

    def _credit(self, line: Line, changed: Changes) -> Line:
        """With what triggers did that are allowed to."""
        counted = changed.of(line.table) if changed.tables is not None else None
        back = sum(part.to_do for part in self.back.values() if part.table is line.table)
        return credit(line, counted, TableChanges(0, self.done[line.table] - back, 0))

    def _find_effects(self) -> Iterator[Effect]:
        for stage in self.back:
            yield from self.database.find_effects(stage.table, None, "insert")
        for part in self.again:
            yield from self.database.find_effects(part.table, part.stage.portion.changed)

    def _find_touched(self, effects: Sequence[Effect]) -> list[Table]:
        own = [stage.table for stage in self._stages()]
        written = [effect.table for effect in effects]
        return list(dict.fromkeys([*own, *written]))

    def _stages(self) -> list[Stage]:
        return [*self.back, *(part.stage for part in self.again)]

    def _stages_of(self, table: Table) -> list[Stage]:
        return [stage for stage in self._stages() if stage.table is table]

    def _put_back(self) -> None:
        """A kept row gives back what was filled in before the rows come back that it was taken
        from: else a unique value would stand in both. What was cleared is there before others
        point at it again."""
        database = self.database
        for part in self.again:
            if part.stage.portion.waits:
                # What these point at is emptied next, and comes back only after that.
                self.done[part.table] += database.archive.empty_waiting(part.stage)
        own = (Action.FILL, Action.CLEAR)
        first = [part for part in self.again if part.stage.portion.action in own]
        for part in first:
            self.done[part.table] += database.archive.reattach(part.stage)
        for group in in_order(database, list(self.back)):
            self._insert(group)
        for part in self.again:
            if part not in first:
                self.done[part.table] += database.archive.reattach(part.stage)

    def _insert(self, group: Sequence[Stage]) -> None:
        """Tables that reference each other come back in one statement."""
        for stage in group:
            self.database.announce(Phase.RESTORING, stage.table.label, stage.portion.rows)
        if len(group) == 1:
            self.done[group[0].table] += self.database.archive.insert(group[0])
            return
        for stage, rows in zip(group, self.database.archive.insert_together(group), strict=True):
            self.done[stage.table] += rows

    def _explain(
        self,
        changed: Changes,
        staged: Mapping[Table, Sequence[Stage]],
        others: Mapping[Table, object],
        marks: Mapping[Table, int],
    ) -> int:
        """How many of the changes that the database counted are known to be right."""
        database = self.database
        explained = sum(rows * table.weight for table, rows in self.done.items())
        if changed.tables is not None:
            # More changes than rows are fine where no other row was touched by them.
            for table, stages in staged.items():
                more = changed.of(table).total - self.done[table]
                if more and not database.archive.count_touched(table, stages, marks[table]):
                    explained += more
            return explained
        digests = {table: database.archive.digest_others(table, staged[table]) for table in others}
        # The engine counts in total only: what triggers did to the rows that came back cannot be
        # told from other changes, unless all other rows are as they were.
        return max(explained, changed.total) if others and digests == others else explained

    def _account(self, table: Table, before: int, effects: Sequence[Effect]) -> Line:
        """The line of one table: rows count as restored only if they are there with the same
        bytes."""
        database = self.database
        database.announce(Phase.CHECKING, table.label, None)
        mine = [part for part in self.back.values() if part.table is table]
        again = [part for part in self.again if part.table is table]
        inserted = sum(_count_whole(database, part) for part in mine)
        attached = sum(_count_attached(database, part) for part in again)
        wanted = sum(part.to_do for part in mine)
        after = database.count_rows(table)
        by_triggers = 0
        if _may_insert(database, effects, table):
            # Fewer rows than expected is a fault, and no negative number of insertions.
            by_triggers = max(0, after - before - inserted)
        return Line(
            table,
            before,
            after,
            inserted_by_triggers=by_triggers,
            dangling=sum(_count_dangling(database, part) for part in (*mine, *again)),
            to_restore=sum(part.to_do - part.again for part in (*mine, *again)),
            inserted=inserted,
            reattached=attached - sum(part.again for part in again),
            differing=() if inserted == wanted else _find_differing(database, mine),
        )


def _count_strangers(database: Database, before: dict[Table, int], changed: Changes) -> None:
    """Add tables of which nobody knew that they are touched, with the rows that they had before."""
    for table in find_strangers(database, before, changed):
        mine = changed.of(table)
        before[table] = database.count_rows(table) - mine.inserted + mine.deleted


def _count_dangling(database: Database, part: RestorePart) -> int:
    """Rows that point at no row, beyond those that did so before the run."""
    known = part.stage.portion.orphans or {}
    found = find_parentless(database, part.stage, ())
    return sum(max(0, rows - known.get(str(reference), 0)) for reference, rows in found)


def _find_differing(database: Database, parts: Sequence[RestorePart]) -> tuple[str, ...]:
    found = dict.fromkeys(
        name for part in parts for name in database.archive.find_differing(part.stage)
    )
    return tuple(found)


def _may_insert(database: Database, effects: Sequence[Effect], table: Table) -> bool:
    """Where an engine does not foresee what triggers do, its own count by table tells it."""
    foreseen = any(effect.table is table and effect.verb == "insert" for effect in effects)
    return foreseen or database.find_changes().tables is not None


def _count_whole(database: Database, part: RestorePart) -> int:
    """Without a key all rows that look like an archived one are counted, those that stayed
    included."""
    whole = database.archive.count_whole(part.stage)
    if part.stage.key:
        return whole
    alike = part.stage.portion.alike
    assert alike is not None
    return whole - (alike - part.standing.rows)


def _count_attached(database: Database, part: RestorePart) -> int:
    """Detached rows that point at what they pointed at, unless something else of a row changed with
    that."""
    after = database.archive.stand(part.stage)
    altered = (
        part.standing.whole - database.archive.count_whole(part.stage) if part.stage.key else 0
    )
    return after.same - part.standing.same - max(0, altered)
