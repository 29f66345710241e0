"""The use cases: the only place where an engine, the core and what a person answers meet."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, replace
from typing import Protocol

from yeldro.core.database import Database, KeySet, Mode, Row
from yeldro.core.duplicates import Duplicates, DuplicatesRequest, Proposal, find_duplicates, propose_same
from yeldro.core.map import TableMap, make_map
from yeldro.core.merging import check_request, find_merging, prepare_merging
from yeldro.core.outcome import Outcome as Outcome
from yeldro.core.outcome import RunResult
from yeldro.core.plan import make_plan
from yeldro.core.preview import Preview, Request, make_merging_preview, make_preview, sample_columns
from yeldro.core.ranking import Ranking
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
    ranking = database.make_ranking(request.grouping)
    with transaction(database, Mode.READ):
        return find_duplicates(database, request, ranking)


@contextmanager
def duplicate_rows(database: Database, request: DuplicatesRequest) -> Iterator[Iterator[Row]]:
    """All rows of all groups: group, place and every column, streamed while the context is open."""
    ranking = database.make_ranking(request.grouping)
    with transaction(database, Mode.READ):
        database.rank(ranking)
        width = 2 + len(request.table.columns)
        yield (row[:width] for row in database.ranked_rows(ranking, None))


def merging(database: Database, request: DuplicatesRequest) -> Preview:
    """Find duplicates, and what removing the surplus rows would touch, in a transaction that cannot change anything."""
    check_request(database, request)
    job = _Merging(database, request)
    job.prepare()
    with transaction(database, Mode.READ):
        return job.look(store=True)


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
    return _run(database, _Deletion(database, request, selection), manner, answers, keeping)


def dedupe(
    database: Database, request: DuplicatesRequest, manner: Manner, answers: Answers, keeping: Keeping | None = None
) -> RunResult:
    """The same for surplus rows of duplicates: what hangs on them is moved first."""
    check_request(database, request)
    return _run(database, _Merging(database, request), manner, answers, keeping)


def _run(
    database: Database, job: _Deletion | _Merging, manner: Manner, answers: Answers, keeping: Keeping | None
) -> RunResult:
    run = _Run(database, job, manner, answers, None if manner.rehearse else keeping)
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
    """What a deletion looks for."""

    def __init__(self, database: Database, request: Request, selection: Selection) -> None:
        self.database = database
        self.request = request
        self.selection = selection

    def prepare(self) -> None:
        """Make what looking inside a read-only transaction needs."""
        found = tables_in_reach(self.database.schema, self.selection.table, self.request.rules, store=True)
        self.database.prepare_key_sets(found)

    def look(self, *, store: bool, shown: bool = True) -> Preview:
        """Look inside the open transaction. With `store` the rows can be compared with those of another look."""
        reach = find_reach(self.database, self.selection, self.request.rules, store=store)
        return make_preview(self.database, self.request, reach)

    def find_fault(self, found: Preview) -> str:
        """What is not as it should be after the run, beyond the tally; "" where all is."""
        return ""

    def follow_up(self) -> None:
        """What is left to do after the commit."""


class _Merging:
    """What removing surplus rows looks for."""

    def __init__(self, database: Database, request: DuplicatesRequest) -> None:
        self.database = database
        self.request = request
        self.selection = request.grouping.selection
        self._rankings: list[Ranking] = []

    def prepare(self) -> None:
        prepare_merging(self.database, self.request)
        self._rankings.append(self.database.make_ranking(self.request.grouping))

    def look(self, *, store: bool, shown: bool = True) -> Preview:
        """What only a person wants to see is left out where nothing is `shown`."""
        ranking = self._rankings.pop() if store else self.database.make_ranking(self.request.grouping)
        found = find_duplicates(self.database, self.request, ranking, shown=shown)
        self.ranking = ranking
        return make_merging_preview(self.database, found, find_merging(self.database, self.request, ranking))

    def find_fault(self, found: Preview) -> str:
        changed = [change.table for change in found.reach.changes]
        changed += [detachment.reference.child for detachment in found.reach.detached]
        # Else the tally proves it: all surplus rows are gone, no other row is, and none was changed.
        unproven = self.request.table in changed or not self.request.table.identity
        left = self.database.count_left_groups(self.ranking) if unproven else 0
        if left:
            return f"{left:,} groups of {self.request.table.label} still hold several rows"
        if self.request.unique_name and not self.database.abilities.ddl_commits:
            self.database.add_unique(self.request.grouping, self.request.unique_name)
        return ""

    def follow_up(self) -> None:
        if self.request.unique_name and self.database.abilities.ddl_commits:
            self.database.add_unique(self.request.grouping, self.request.unique_name)


class _Run:
    """One run. `begun` tells whether its writing transaction was opened."""

    def __init__(
        self,
        database: Database,
        job: _Deletion | _Merging,
        manner: Manner,
        answers: Answers,
        keeping: Keeping | None,
    ) -> None:
        self.database = database
        self.job = job
        self.manner = manner
        self.answers = answers
        self.begun = False
        self.preview: Preview | None = None
        self.keeper = Keeper(database, keeping, job.selection, answers.copying)

    def go(self) -> RunResult:
        selection = self.job.selection
        alone = selection.table if selection.truncate else None
        if not self.manner.ask_first and not self.keeper.comes_before:
            self._begin(alone)
            found = self._show(store=False)
            return self._ended_early(found) or self._finish(found)
        self.job.prepare()
        with transaction(self.database, Mode.READ):
            found = self._show(store=True)
        ended = self._ended_early(found)
        if ended:
            return ended
        if self.manner.ask_first and not self.answers.allow(found):
            return RunResult(Outcome.DECLINED, found, status=Declined.status)
        self.keeper.prepare(found.reach)
        self._begin(alone)
        fresh = self.job.look(store=False, shown=False)
        came, went = (0, 0) if alone else _compare(self.database, found.reach, fresh.reach)
        if alone and fresh.reach.matched != found.reach.matched:
            came = max(0, fresh.reach.matched - found.reach.matched)
            went = max(0, found.reach.matched - fresh.reach.matched)
        if came or went:
            self.database.rollback()
            self.keeper.drop()
            reason = f"Since the preview {came:,} rows came into the reach and {went:,} left it."
            return RunResult(Outcome.STOPPED, found, None, reason, "Look at the preview again.", Refused.status)
        return self._finish(fresh)

    def _begin(self, alone: Table | None) -> None:
        self.keeper.listen()
        self.database.begin(Mode.WRITE, alone)
        self.begun = True

    def _show(self, *, store: bool) -> Preview:
        self.preview = self.job.look(store=store)
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
        self.keeper.is_final = self.job.selection.truncate and not self.database.abilities.rolls_back_truncate
        tally = run_plan(self.database, make_plan(found.reach, [scan.reference for scan in found.scanned]))
        fault = f"The tally does not balance: {tally.fault}" if not tally.balanced else self.job.find_fault(found)
        if fault:
            self.database.rollback()
            reason = f"{fault}."
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
        run = self.keeper.committed()
        try:
            self.job.follow_up()
        except YeldroError as error:
            reason = f"The rows are as they should be, but the unique index was not added. {error.message}"
            return RunResult(Outcome.COMMITTED, found, tally, reason, error.hint, error.status, run)
        return RunResult(Outcome.COMMITTED, found, tally, run=run)

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
        if new_keys.new:
            more += database.count_otherwise(new_keys, old_keys)
        came, went = came + more, went + old_rows - (new_rows - more)
    return came, went


def _by_cause(reach: Reach) -> dict[object, tuple[KeySet, int]]:
    """The key sets by what they stand for: the table that loses rows, or the reference that is taken away."""
    causes: dict[object, tuple[KeySet, int]] = {keys.table: (keys, rows) for keys, rows in reach.deleted}
    causes.update({one.reference: (one.keys, one.rows) for one in reach.detached})
    causes.update({(one.table, one.action, one.keys.new): (one.keys, one.rows) for one in reach.changes})
    return causes
