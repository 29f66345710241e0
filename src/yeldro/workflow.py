"""The use cases: the only place where an engine, the core and what a person answers meet."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, replace
from typing import Protocol

from yeldro.core.database import Database, KeySet, Mode, Row
from yeldro.core.duplicates import Duplicates, DuplicatesRequest, Proposal, find_duplicates, propose_same
from yeldro.core.map import TableMap, make_map
from yeldro.core.outcome import Outcome as Outcome
from yeldro.core.outcome import RunResult
from yeldro.core.plan import make_plan
from yeldro.core.preview import Preview, Request, make_preview, sample_columns
from yeldro.core.reach import Reach, find_reach, root_keys, tables_in_reach
from yeldro.core.review import Review, make_review, read_removals, tables_in_review
from yeldro.core.run import run_plan
from yeldro.core.schema import Table
from yeldro.core.script import read_script
from yeldro.core.selection import Selection, read_selection
from yeldro.core.survey import TableSurvey, find_survey
from yeldro.core.tally import Tally
from yeldro.errors import Declined, Interrupted, OutputClosed, Refused, UsageError, YeldroError
from yeldro.keeper import Keeper
from yeldro.store.records import Keeping


class Answers(Protocol):
    """The person, or a script, on the other side."""

    def show(self, preview: Preview) -> None: ...

    def allow(self, preview: Preview) -> bool:
        """Asked before anything is changed, outside of any transaction."""
        ...

    def allow_commit(self, tally: Tally) -> bool:
        """Asked with the balanced tally in hand, while the transaction is open."""
        ...

    def copying(self, rows: int, total: int) -> None:
        """Told now and then how many of the rows are in the archive."""
        ...

    def committing(self) -> None:
        """Told right before the commit: from here on an interrupt comes too late and must not be raised."""
        ...


@dataclass(frozen=True, slots=True)
class Manner:
    """How a run goes: `rehearse` rolls back at the end; `ask_first` and `ask_last` say when to ask."""

    rehearse: bool = False
    ask_first: bool = True
    ask_last: bool = False


def survey(database: Database, names: Sequence[str]) -> list[TableSurvey]:
    """Look at the whole database, or closely at some of its tables."""
    chosen = [database.schema.find_table(name) for name in names]
    with transaction(database, Mode.READ):
        return find_survey(database, chosen)


def draw_map(database: Database, root: Table | None, request: Request | None) -> TableMap:
    """Map the database or what hangs on `root`; with a request, with what its deletion would touch."""
    if request is None:
        return make_map(database.schema, root)
    return make_map(database.schema, root, preview(database, request).reach)


def preview(database: Database, request: Request) -> Preview:
    """Find what a deletion would touch, in a transaction that cannot change anything."""
    selection = _read(database, request)
    database.prepare_key_sets(tables_in_reach(database.schema, selection.table, request.rules))
    with transaction(database, Mode.READ):
        return make_preview(database, request, find_reach(database, selection, request.rules))


def review(database: Database, text: str, dialect: str | None) -> Review:
    """Judge a script of statements, in a transaction that cannot change anything."""
    try:
        script = read_script(text, dialect or database.dialect)
    except ValueError:
        raise UsageError(
            f"There is no dialect {dialect!r}.", "Such as: sqlite, postgres, mysql, tsql, oracle."
        ) from None
    found = read_removals(database, script, database.dialect)
    database.prepare_key_sets(tables_in_review(database, found))
    with transaction(database, Mode.READ):
        return make_review(database, found)


def duplicates(database: Database, request: DuplicatesRequest) -> Duplicates:
    """Find groups of duplicates, in a transaction that cannot change anything."""
    ranking = database.make_ranking(request.table)
    with transaction(database, Mode.READ):
        return find_duplicates(database, request, ranking)


def proposals(database: Database, table: Table) -> list[Proposal]:
    """Find what might make rows of a table the same, in a transaction that cannot change anything."""
    with transaction(database, Mode.READ):
        return propose_same(database, table)


@contextmanager
def matched_rows(database: Database, request: Request) -> Iterator[tuple[Preview, tuple[str, ...], Iterator[Row]]]:
    """A preview with the columns and all matched rows, streamed in key order while the context is open."""
    selection = _read(database, request)
    database.prepare_key_sets(tables_in_reach(database.schema, selection.table, request.rules))
    with transaction(database, Mode.READ):
        found = make_preview(database, request, find_reach(database, selection, request.rules))
        names = sample_columns(selection, request.show) if request.show else selection.table.column_names
        yield found, names, database.sample(root_keys(found.reach), names, None)


def delete(
    database: Database, request: Request, manner: Manner, answers: Answers, keeping: Keeping | None = None
) -> RunResult:
    """Preview, ask, archive, delete, compare, and commit only what was shown.

    Faults after the preview end in the result. Without `keeping` there is neither a record nor an archive.
    """
    selection = _read(database, request)
    if selection.truncate and not database.abilities.rolls_back_truncate and (manner.rehearse or manner.ask_last):
        raise Refused(database.abilities.truncates, "So --truncate goes without --rehearse and --ask-last.")
    run = _Deletion(database, request, manner, answers, selection, None if manner.rehearse else keeping)
    try:
        return carry_out(database, run.go, run.failed)
    except BaseException:
        run.keeper.rolled_back("Something unexpected went wrong.")
        raise
    finally:
        database.record(None)
        run.keeper.close()


def carry_out(
    database: Database, work: Callable[[], RunResult], failed: Callable[[YeldroError], RunResult]
) -> RunResult:
    """Do it, and roll back whatever stops it. What is wrong usage, or a fault of ours, is no result."""
    try:
        return work()
    except KeyboardInterrupt:
        error: YeldroError = Interrupted("Interrupted.")
    except OutputClosed:
        error = Interrupted("Nobody reads the output any more.")
    except UsageError:
        undo(database)
        raise
    except YeldroError as found:
        error = found
    except BaseException:
        undo(database)
        raise
    undo(database)
    return failed(error)


class _Deletion:
    """One deletion. `begun` tells whether its writing transaction was opened."""

    def __init__(
        self,
        database: Database,
        request: Request,
        manner: Manner,
        answers: Answers,
        selection: Selection,
        keeping: Keeping | None,
    ) -> None:
        self.database = database
        self.request = request
        self.manner = manner
        self.answers = answers
        self.selection = selection
        self.begun = False
        self.preview: Preview | None = None
        self.keeper = Keeper(database, keeping, selection, answers.copying)

    def go(self) -> RunResult:
        alone = self.selection.table if self.selection.truncate else None
        if not self.manner.ask_first and not self.keeper.comes_before:
            self._begin(alone)
            found = self._show(store=False)
            return self._ended_early(found) or self._finish(found)
        self.database.prepare_key_sets(
            tables_in_reach(self.database.schema, self.selection.table, self.request.rules, store=True)
        )
        with transaction(self.database, Mode.READ):
            found = self._show(store=True)
        ended = self._ended_early(found)
        if ended:
            return ended
        if self.manner.ask_first and not self.answers.allow(found):
            return RunResult(Outcome.DECLINED, found, status=Declined.status)
        self.keeper.prepare(found.reach)
        self._begin(alone)
        fresh = find_reach(self.database, self.selection, self.request.rules)
        came, went = (0, 0) if alone else _compare(self.database, found.reach, fresh)
        if alone and fresh.matched != found.reach.matched:
            came, went = max(0, fresh.matched - found.reach.matched), max(0, found.reach.matched - fresh.matched)
        if came or went:
            self.database.rollback()
            self.keeper.drop()
            reason = f"Since the preview {came:,} rows came into the reach and {went:,} left it."
            return RunResult(Outcome.STOPPED, found, None, reason, "Look at the preview again.", Refused.status)
        return self._finish(make_preview(self.database, self.request, fresh))

    def _begin(self, alone: Table | None) -> None:
        self.keeper.listen()
        self.database.begin(Mode.WRITE, alone)
        self.begun = True

    def _show(self, *, store: bool) -> Preview:
        reach = find_reach(self.database, self.selection, self.request.rules, store=store)
        self.preview = make_preview(self.database, self.request, reach)
        self.answers.show(self.preview)
        return self.preview

    def _ended_early(self, found: Preview) -> RunResult | None:
        if found.refusals:
            self.database.rollback()
            return RunResult(Outcome.STOPPED, found, None, found.refusals[0], status=Refused.status)
        if not found.reach.matched:
            self.database.rollback()
            return RunResult(Outcome.NOTHING_MATCHED, found)
        if reason := self.keeper.find_fault(found.reach):
            self.database.rollback()
            hint = "Leave the column out with --leave-out, or keep no copy with --no-archive."
            return RunResult(Outcome.STOPPED, found, None, reason, hint, Refused.status)
        return None

    def _finish(self, found: Preview) -> RunResult:
        self.keeper.keep(found)
        self.keeper.is_final = self.selection.truncate and not self.database.abilities.rolls_back_truncate
        tally = run_plan(self.database, make_plan(found.reach, [scan.reference for scan in found.scanned]))
        if not tally.balanced:
            self.database.rollback()
            reason = f"The tally does not balance: {tally.fault}."
            run = self.keeper.rolled_back(reason, tally)
            outcome = Outcome.IN_DOUBT if self.keeper.is_final else Outcome.ROLLED_BACK
            return RunResult(outcome, found, tally, reason, status=Refused.status, run=run)
        if self.manner.rehearse:
            self.database.rollback()
            return RunResult(Outcome.REHEARSED, found, tally)
        if self.manner.ask_last and not self.answers.allow_commit(tally):
            self.database.rollback()
            self.keeper.drop()
            return RunResult(Outcome.DECLINED, found, tally, status=Declined.status)
        self.answers.committing()
        self.keeper.committing(tally)
        self.database.commit()
        return RunResult(Outcome.COMMITTED, found, tally, run=self.keeper.committed())

    def failed(self, error: YeldroError) -> RunResult:
        """How it ended. What failed before anything was shown is no run: the error itself tells it."""
        if not self.begun and self.preview is None:
            raise error
        outcome = Outcome.ROLLED_BACK if self.begun else Outcome.STOPPED
        if self.keeper.is_final:
            outcome = Outcome.IN_DOUBT
        run = self.keeper.rolled_back(error.message)
        return RunResult(outcome, self.preview, None, error.message, error.hint, error.status, run)


def undo(database: Database) -> None:
    """Roll back without letting a second fault hide the first: a connection that is closed rolls back by itself."""
    try:
        database.rollback()
    except YeldroError:
        database.close()


@contextmanager
def transaction(database: Database, mode: Mode) -> Iterator[None]:
    database.begin(mode)
    try:
        yield
    except BaseException:
        undo(database)
        raise
    database.commit()


def _read(database: Database, request: Request) -> Selection:
    selection = read_selection(request.asked, database.schema, database.dialect)
    for name in request.show:
        selection.table.find_column(name)
    if selection.keys is None:
        return selection
    return replace(selection, keys=None, listed=database.load_keys(selection.table, selection.keys))


def _compare(database: Database, old: Reach, new: Reach) -> tuple[int, int]:
    """How many rows, each with its action, are only in the new reach, and how many only in the old one."""
    before, after = _by_cause(old), _by_cause(new)
    came = sum(rows for cause, (_, rows) in after.items() if cause not in before)
    went = sum(rows for cause, (_, rows) in before.items() if cause not in after)
    for cause in before.keys() & after.keys():
        (old_keys, old_rows), (new_keys, new_rows) = before[cause], after[cause]
        more = database.count_beyond(new_keys, old_keys)
        came, went = came + more, went + old_rows - (new_rows - more)
    return came, went


def _by_cause(reach: Reach) -> dict[object, tuple[KeySet, int]]:
    """The key sets by what they stand for: the table that loses rows, or the reference that is taken away."""
    causes: dict[object, tuple[KeySet, int]] = {keys.table: (keys, rows) for keys, rows in reach.deleted}
    causes.update({one.reference: (one.keys, one.rows) for one in reach.detached})
    return causes
