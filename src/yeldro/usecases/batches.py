"""A run in batches: the rows are fixed once, by key, and go in many transactions, each a closed set
that is copied, deleted and proven by itself."""

from __future__ import annotations

import time
from collections.abc import Sequence

from msgspec.structs import replace

from yeldro.core.database.connection import Database
from yeldro.core.model.action import Action
from yeldro.core.model.key_set import KeyRange, StoredKeys
from yeldro.core.model.plural import count
from yeldro.core.model.schema import Table
from yeldro.core.reach.engine_checks import runs_triggers
from yeldro.core.reach.heaviest import find_heaviest, find_heaviest_group
from yeldro.core.reach.search import Batch
from yeldro.core.run.archive_pieces import find_lasting_key
from yeldro.core.run.batching import START, Pace, Progress, Size
from yeldro.core.run.execute import run_plan
from yeldro.core.run.outcome import Outcome, RunResult
from yeldro.core.run.plan import make_plan
from yeldro.core.run.preview import Preview
from yeldro.core.run.seal import Difference
from yeldro.core.run.tally import Tally, add_tallies
from yeldro.core.selection.guards import Guards
from yeldro.core.selection.selection import Selection
from yeldro.errors import (
    Conflict,
    ConstraintBroken,
    NotCommitted,
    Refused,
    TooLarge,
    UsageError,
    YeldroError,
)
from yeldro.store.run_facts import PaceFacts
from yeldro.store.run_record import Keeping
from yeldro.usecases.answers import Answers
from yeldro.usecases.batch_keeper import BatchKeeper
from yeldro.usecases.compare_reaches import count_strangers
from yeldro.usecases.judge import Compare
from yeldro.usecases.one_transaction import Manner, Run
from yeldro.usecases.pacing import Pacing
from yeldro.usecases.steps import BatchJob, Job
from yeldro.usecases.transaction import carry_out, undo
from yeldro.words.tell import tell, voice_of


def run_in_batches(
    database: Database,
    job: BatchJob,
    manner: Manner,
    answers: Answers,
    keeping: Keeping | None,
    limits: Guards | None = None,
    compare: Compare = lambda _, __: Difference(),
) -> RunResult:
    """What is committed stays, however it ends, and what is not is untouched."""
    check_batches(job.selection, manner, keeping)
    one = BatchRun(database, job, manner, answers, keeping, limits, compare)
    return one.run()


def check_batches(selection: Selection, manner: Manner, keeping: Keeping | None) -> None:
    """UsageError for what does not go with batches."""
    if selection.truncate:
        raise UsageError("--truncate empties a table at once: it excludes --batch.")
    if manner.rehearse or manner.ask_last:
        raise UsageError(
            "A batch cannot be taken back once the next one has begun: --batch excludes --rehearse "
            "and --ask-last."
        )
    if keeping and keeping.table:
        raise UsageError("--archive-table keeps the rows of one transaction: it excludes --batch.")


class _NotAll(Exception):
    """Rows of a batch did not go, which were only asked about while they went."""


class BatchRun(Run):
    """One run. `known` is how many rows the tables have after the batches so far; `_taken`
    counts the chosen rows in them.

    `_seen` is the version of the database at the last look, `_chosen` the one in which the rows
    were chosen, where no batch changes those of later ones. `_trusting`: the database itself has
    refused nothing so far. `_all_there`: no row of the last batch had changed, so that the next
    ones may be asked about while they go.
    """

    def __init__(
        self,
        database: Database,
        job: BatchJob,
        manner: Manner,
        answers: Answers,
        keeping: Keeping | None,
        limits: Guards | None = None,
        compare: Compare = lambda _, __: Difference(),
    ) -> None:
        super().__init__(database, [job], manner, answers, keeping, limits or Guards(), compare)
        self.job = job
        self.pace = manner.pace or Pace()
        job.in_batches, job.by_keys = True, self.pace.even_if_changed
        self.batch_keeper = BatchKeeper(
            database, keeping, [job.selection.table], lambda *_: None, self.life
        )
        self.keeper = self.batch_keeper
        self.tally: Tally | None = None
        self.known: dict[Table, int] = {}
        self.progress = Progress(0, 0, 0, what=f"chosen {job.chosen}")
        self.pacing = Pacing(self.pace, database, manner.followers, answers)
        self._taken = 0
        self._seen: int | None = None
        self._chosen: int | None = None
        self._trusting = True
        self._all_there = True

    def run(self) -> RunResult:
        try:
            return carry_out(self.database, self.go, self.failed)
        except BaseException:
            undo(self.database)
            self.fail()
            raise
        finally:
            self.database.record(None)
            self.batch_keeper.close()

    def go(self) -> RunResult:
        (shown,), ended = self.look_and_ask()
        if ended:
            return ended
        self.job.check_batches(shown)
        if not self._may_change_others(shown):
            self._chosen = self._seen
        chosen = self.job.find_chosen(shown)
        key = find_lasting_key(self.database, chosen)
        if not key:
            raise UsageError(
                f"{chosen.table.label} has no key, and batches go by keys.",
                "Give it a key without NULLs.",
            )
        numbered, total = self.job.number(chosen, key)
        self.progress = replace(self.progress, total=total)
        self.batch_keeper.listen()
        size = self.pace.rows or "auto"
        facts = PaceFacts(size=size, total=total, what=self.job.chosen)
        self.batch_keeper.begin_all(shown, facts, self.watch.expected)
        self.batch_keeper.keep_keys(numbered)
        return self.take_all(shown, numbered)

    def look_and_ask(self) -> tuple[Sequence[Preview], RunResult | None]:
        self.pacing.begin()
        return super().look_and_ask()

    def _look(self, job: Job, *, store: bool = False, shown: bool = True) -> Preview:
        """Whoever is shown all of it is told which batch cannot be as small as was said."""
        found = super()._look(job, store=store, shown=shown)
        self._seen = self.database.find_version()
        most = self.pace.rows or START
        told = [find_heaviest(self.database, found.reach, most)]
        if found.duplicates:
            told.append(find_heaviest_group(found.duplicates.sizes, most))
        return replace(found, hints=(*found.hints, *filter(None, told)))

    def _may_change_others(self, shown: Preview) -> bool:
        """Whether a batch may change rows of later ones, through a trigger or because they stay."""
        parts = shown.reach.parts
        stays = any(part.action is not Action.DELETE for part in parts)
        return stays or any(runs_triggers(self.database, part.table) for part in parts)

    def take_all(self, shown: Preview, numbered: StoredKeys) -> RunResult:
        """One batch after the other, until nothing is left or something stops them."""
        self.life.begun = True
        self.known = {shown.selection.table: shown.reach.table_rows}
        self.database.numbered.remember()
        self.answers.begin_batches()
        rows = self.pace.rows or START
        share = shown.reach.rows / max(1, shown.reach.matched)
        size = Size(rows, share, None if self.pace.rows else self.pace.hold)
        while self.progress.done < self.progress.total:
            if reason := self.pacing.find_pause(self.progress):
                return self._end_all(Outcome.STOPPED, reason)
            self._take_next(shown, numbered, size)
        left = self.job.count_left(numbered, self.progress.total - self._taken)
        self.progress = replace(self.progress, left=left)
        return self._end_all(Outcome.COMMITTED)

    def _take_next(self, shown: Preview, numbered: StoredKeys, size: Size) -> None:
        first = self.progress.done + 1
        wanted = min(size.matched, self.progress.total - self.progress.done)
        while True:
            try:
                wanted = self._fit(shown, numbered, size, first, wanted)
                return
            except ConstraintBroken:
                if not self._trusting:
                    raise
                # Rows came in that depend on these. Looking tells which, from now on.
                self._trusting = False
                self._undo_batch()
            except _NotAll:
                # Some were changed, or are gone. Looking tells which.
                self._all_there = False
                self._undo_batch()
            except (TooLarge, Conflict, NotCommitted) as error:
                if not self.pacing.goes_again(error, size):
                    raise
                # Nothing was changed.
                self.life.is_final = False
                self._undo_batch()
                wanted = min(wanted, size.matched)
                if self.pacing.rest():
                    # Fewer rows meet fewer of those of others.
                    wanted = max(1, wanted // 2)

    def _fit(
        self, shown: Preview, numbered: StoredKeys, size: Size, first: int, wanted: int
    ) -> int:
        """Take as many rows as fit into a batch, `wanted` at first: fewer where they are too large,
        more where rows that come later hold them."""
        start, is_held = time.monotonic(), False
        while True:
            listed = self.database.numbered.between(numbered, first, first + wanted - 1)
            self.watch.begin()
            found = self.job.look_at_batch(shown, listed, self._describe(numbered))
            rows, left = found.reach.rows, self.progress.total - first + 1
            if found.refusals and wanted < left:
                wanted, is_held = min(2 * wanted, left), True
            elif rows > size.rows and wanted > 1 and not is_held:
                wanted = size.shrink(wanted, rows)
            else:
                break
            self.database.rollback()
            self.database.numbered.drop_others()
        self._check(shown, found)
        matched = found.reach.matched
        if found.reach.touched:
            self._do(found, listed, start)
            size.learn(wanted, rows, time.monotonic() - start)
        else:
            self.database.rollback()
            self.progress = replace(self.progress, done=self.progress.done + wanted)
        self._taken += matched
        self._all_there = matched == wanted
        self.database.numbered.drop_others()
        return wanted

    def _describe(self, numbered: StoredKeys) -> Batch:
        is_same = self._chosen is not None and self.database.find_version() == self._chosen
        known = self.known.get(self.job.selection.table)
        at_once = self._trusting and self._all_there and not self.batch_keeper.copies
        return Batch(numbered, known, self._trusting, is_same, at_once)

    def _check(self, shown: Preview, found: Preview) -> None:
        """Refused where the batch is not of what was shown, or may not go."""
        if found.refusals:
            raise Refused(tell(found.refusals[0], voice_of(found)))
        if self.manner.ask_first and not self.pace.even_if_changed:
            came = count_strangers(self.database, shown.reach, found.reach)
            if came:
                raise Refused(
                    f"{count(came, 'row')} came in since the preview that would go, too.",
                    "yeldro resume shows what is left as it is now, and asks again.",
                )
        self._check_rights(found.reach)

    def _do(self, found: Preview, listed: KeyRange, start: float) -> None:
        """Copy, delete, prove, commit."""
        self.batch_keeper.keep(found)
        plan = make_plan(found.reach, [scan.reference for scan in found.scanned])
        tally = run_plan(
            self.database,
            plan,
            recount=self.manner.recount,
            known=self.known,
            allowed=self.job.allowed,
        )
        if found.reach.unasked and not tally.balanced:
            raise _NotAll
        if not tally.balanced:
            raise Refused(f"The tally does not balance: {tally.fault}.", tally.hint)
        if fault := self.job.find_fault(found):
            raise Refused(f"{fault}.")
        lag = self.pacing.lag
        self.batch_keeper.commit_batch(
            {
                "first": listed.first,
                "last": listed.last,
                "first_key": list(map(str, listed.ends[0])),
                "last_key": list(map(str, listed.ends[1])),
                "matched": found.reach.matched,
                "rows": found.reach.rows,
                "seconds": round(time.monotonic() - start, 3),
                **({} if lag is None else {"behind": round(lag, 3)}),
            },
            tally,
        )
        self.answers.committing()
        self.database.commit()
        self.batch_keeper.batch_committed(seconds=round(time.monotonic() - start, 3))
        self.pacing.committed()
        self._add(tally)
        self.progress = replace(
            self.progress,
            batches=self.progress.batches + 1,
            done=listed.last,
            rows=self.progress.rows + found.reach.rows,
        )
        self.answers.batch_done(self.progress)

    def _add(self, tally: Tally) -> None:
        self.known.update({line.table: line.after for line in tally.lines})
        self.tally = add_tallies([self.tally, tally]) if self.tally else tally

    def _undo_batch(self) -> None:
        undo(self.database)
        self.batch_keeper.batch_rolled_back()
        self.database.numbered.drop_others()

    def _end_all(
        self, outcome: Outcome, reason: str = "", hint: str = "", status: int = 0
    ) -> RunResult:
        run = self.batch_keeper.end_all(outcome, self.progress, self.tally, reason)
        return RunResult(
            outcome,
            self.preview,
            self.tally,
            reason,
            hint,
            status,
            run,
            progress=self.progress,
        )

    def fail(self) -> Outcome:
        """The batch that was under way is undone; those before it stay."""
        in_doubt = self.life.is_final
        self.batch_keeper.batch_rolled_back()
        if in_doubt:
            return Outcome.IN_DOUBT
        return Outcome.STOPPED

    def failed(self, error: YeldroError) -> RunResult:
        if not self.life.begun:
            return super().failed(error)
        self.life.find_outcome(error)
        outcome = self.fail()
        if outcome is Outcome.IN_DOUBT:
            return self._result(
                outcome,
                self.preview,
                self.tally,
                error.message,
                error.hint,
                error.status,
                self.batch_keeper.name,
            )
        # What an error of the database says of the whole is true of the last batch only.
        hint = error.hint if isinstance(error, Refused) else ""
        return self._end_all(outcome, error.message, hint, error.status)
