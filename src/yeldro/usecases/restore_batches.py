"""A run in batches is taken back in batches: the last ones of the run first, in transactions of
their own."""

from __future__ import annotations

import time
from collections.abc import Sequence
from contextlib import suppress
from itertools import groupby

from msgspec.structs import replace

from yeldro.core.database.archive_format import Portion, Stage
from yeldro.core.restore.batches import merge_batches
from yeldro.core.restore.plan import RestorePlan
from yeldro.core.run.batching import START, Pace, Progress, Size
from yeldro.core.run.outcome import Outcome, RunResult
from yeldro.core.run.tally import Tally, add_tallies
from yeldro.errors import (
    ArchiveFailed,
    Conflict,
    NotCommitted,
    Refused,
    TooLarge,
    UsageError,
    YeldroError,
)
from yeldro.store.run_facts import Restoration as RestorationFacts
from yeldro.usecases.pacing import Pacing
from yeldro.usecases.restoration import Restoration
from yeldro.usecases.transaction import undo
from yeldro.words.tell import tell

AGAIN = "What came back stays. Restore again: rows that are there are skipped."


class BatchRestoration(Restoration):
    """One restoration. `done` is what the record says of its batches so far."""

    pace = Pace()
    progress = Progress(0, 0, 0, what="archived row")
    tally: Tally | None = None
    done: RestorationFacts | None = None
    is_last = False

    def go(self) -> RunResult:
        request = self.request
        if request.tables or request.keys or request.rehearse:
            raise UsageError(
                "--batch takes the whole run back: it excludes --table, --key and --rehearse."
            )
        if "batches" not in self.record.facts:
            raise UsageError(
                f"{self.record.name} went in one transaction, and comes back in one.",
                "Leave out --batch.",
            )
        self.pace = request.pace or self.pace
        self.pacing = Pacing(self.pace, self.database, request.followers, self.answers)
        self.pacing.begin()
        return super().go()

    def _restore(self, plan: RestorePlan, stages: Sequence[Stage]) -> RunResult:
        portions = self._read_all()
        # They were there to be looked at.
        self._drop(stages)
        by_step = groupby(sorted(portions, key=lambda one: -one.step), lambda one: one.step)
        batches = [list(group) for _, group in by_step]
        self.progress = replace(self.progress, total=sum(one.rows for one in portions))
        size = Size(self.pace.rows or START, 1.0, None if self.pace.rows else self.pace.hold)
        self.life.begun = True
        self.answers.begin_batches()
        while batches:
            if reason := self.pacing.find_pause(self.progress):
                return self._end(Outcome.STOPPED, reason)
            taken = self._take_next(batches, size)
            del batches[:taken]
        return self._end(Outcome.COMMITTED)

    def _take_next(self, batches: Sequence[list[Portion]], size: Size) -> int:
        """Take back as many batches of the run as fit into one of ours, at least one. Returns how
        many."""
        while True:
            number = _find_fitting(batches, size.rows)
            self.is_last = number == len(batches)
            portions = [portion for batch in reversed(batches[:number]) for portion in batch]
            stages = self._stage(merge_batches(portions))
            try:
                self._take(stages, size)
                return number
            except (TooLarge, Conflict, NotCommitted) as error:
                undo(self.database)
                is_least = number == 1 and isinstance(error, TooLarge)
                if is_least or not self.pacing.goes_again(error, size):
                    raise
                self.life.is_final = False
                self.pacing.rest()
            except BaseException:
                # Before the stages are dropped, which must never commit anything.
                undo(self.database)
                raise
            finally:
                self._drop(stages)

    def _take(self, stages: Sequence[Stage], size: Size) -> None:
        """Look again under the lock, put back, prove, commit."""
        start, rows = time.monotonic(), sum(stage.portion.rows for stage in stages)
        self._begin(stages)
        plan = self._look(stages)
        if plan.refusals:
            raise Refused(tell(plan.refusals[0]))
        done = self.progress.done + rows
        if not plan.rows:
            self.database.rollback()
            self.progress = replace(self.progress, done=done)
            return
        tally = self._put_back(plan)
        if not tally.balanced:
            raise Refused(f"The tally does not balance: {tally.fault}.", tally.hint)
        self.answers.committing()
        self._commit_batch(plan)
        self.tally = add_tallies([self.tally, tally]) if self.tally else tally
        self.progress = replace(self.progress, batches=self.progress.batches + 1, done=done)
        self.pacing.committed()
        self.answers.batch_done(self.progress)
        size.learn(rows, rows, time.monotonic() - start)

    @property
    def _is_whole(self) -> bool:
        return self.is_last

    def _commit_batch(self, plan: RestorePlan) -> None:
        """One entry stands for all batches, beside that of one whose commit is under way."""
        before = self.record.facts["restored"]
        entry = self._commit(plan)
        self.gone = entry["gone_after"]
        if self.done:
            before = before[:-1]
            entry["rows"] += self.done["rows"]
            entry["when"] = self.done["when"]
            entry["gone_before"] = self.done.get("gone_before", 0)
        self.done = entry
        self.record.write(restored=[*before, entry])
        self.life.is_final = False

    def _tell_copying(self, rows: int, total: int) -> None:
        """What a batch takes is told when it is done."""
        if not self.life.begun:
            super()._tell_copying(rows, total)

    def _drop(self, stages: Sequence[Stage]) -> None:
        """A connection that is lost has dropped them itself."""
        with suppress(YeldroError):
            for stage in stages:
                self.database.archive.drop_stage(stage)

    def _end(
        self, outcome: Outcome, reason: str = "", hint: str = "", status: int = 0
    ) -> RunResult:
        if outcome is Outcome.COMMITTED and self.done and not self.done["whole"]:
            # The last batch of the run was there already.
            before = self.record.facts["restored"][:-1]
            with suppress(ArchiveFailed):
                self.record.write(restored=[*before, {**self.done, "whole": True}])
        found = self._result(outcome, reason, status, self.tally)
        return replace(found, hint=hint, progress=self.progress)

    def _failed(self, error: YeldroError) -> RunResult:
        if not self.life.begun or self.life.find_outcome(error) is Outcome.IN_DOUBT:
            return super()._failed(error)
        return self._end(Outcome.STOPPED, error.message, AGAIN if self.done else "", error.status)


def _find_fitting(batches: Sequence[list[Portion]], rows: int) -> int:
    """How many of the first ones have so many rows together, at least one."""
    number, sum_of_rows = 0, 0
    for batch in batches:
        sum_of_rows += sum(portion.rows for portion in batch)
        if number and sum_of_rows > rows:
            break
        number += 1
    return number
