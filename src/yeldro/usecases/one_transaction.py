"""A run of one step, or of several, in one transaction."""

from __future__ import annotations

import time
from collections.abc import Sequence
from typing import cast

from msgspec import Struct

from yeldro.core.database.connection import Database
from yeldro.core.database.followers import Follower
from yeldro.core.database.phase import Phase
from yeldro.core.model.plural import count
from yeldro.core.reach.reach import Reach
from yeldro.core.run.batching import Pace
from yeldro.core.run.execute import run_plan
from yeldro.core.run.outcome import Outcome as Outcome
from yeldro.core.run.outcome import RunResult, StepAccount
from yeldro.core.run.plan import make_plan
from yeldro.core.run.preview import Preview
from yeldro.core.run.tally import Tally, add_tallies
from yeldro.core.selection.guards import Guards
from yeldro.errors import (
    Declined,
    Refused,
    YeldroError,
)
from yeldro.store.run_record import Keeping
from yeldro.usecases.answers import Answers
from yeldro.usecases.compare_reaches import count_differences
from yeldro.usecases.judge import Compare, check_seal, judge
from yeldro.usecases.record_keeper import Keeper
from yeldro.usecases.schema_watch import SchemaChanged, SchemaWatch
from yeldro.usecases.steps import BatchJob, Job
from yeldro.usecases.transaction import LifeCycle, looking, undo
from yeldro.words.tell import tell, voice_of

AGAIN = "Preview again."
# From so many rows on, who is asked is told what they would cost.
_MANY = 100_000


class Manner(Struct, frozen=True):
    """How a run goes: `rehearse` rolls back at the end; `ask_first` and `ask_last` say when to
    ask; `recount` counts again what the database proves; with a `pace` it goes in batches, and
    `followers` are servers to look at between them.
    """

    rehearse: bool = False
    ask_first: bool = True
    ask_last: bool = False
    recount: bool = False
    pace: Pace | None = None
    followers: tuple[Follower, ...] = ()


class Run:
    """One run. `life` tells how far it has come, `done` what each step did so far."""

    def __init__(
        self,
        database: Database,
        jobs: Sequence[Job],
        manner: Manner,
        answers: Answers,
        keeping: Keeping | None,
        limits: Guards,
        compare: Compare,
    ) -> None:
        self.database = database
        self.jobs = jobs
        self.manner = manner
        self.answers = answers
        self.limits = limits
        self.compare = compare
        self.life = LifeCycle()
        self.preview: Preview | None = None
        self.done: list[StepAccount] = []
        scope = dict.fromkeys(table for job in jobs for table in job.scope)
        self.watch = SchemaWatch(database, list(scope))
        tables = dict.fromkeys(job.selection.table for job in jobs)
        self.keeper = Keeper(database, keeping, list(tables), answers.copying, self.life)

    def go(self) -> RunResult:
        # Who was shown nothing needs no preview: the run looks once, under its lock.
        seen = self.manner.ask_first or self.keeper.comes_before
        shown: Sequence[Preview] = ()
        if seen or any(job.seal for job in self.jobs):
            shown, ended = self.look_and_ask()
            if ended:
                return ended
            # Tables for copies are made before the transaction where making one would end it.
            self.keeper.prepare(shown[0].reach)
        else:
            for job in self.jobs:
                job.check_rights()
        # From here on the journal holds what is sent.
        self.keeper.listen()
        emptied = [job.selection.table for job in self.jobs if job.selection.truncate]
        try:
            self.watch.begin(emptied)
        except SchemaChanged as error:
            return self._stopped(self.preview, error.message, error.hint)
        self.life.begun = True
        return self._take_turns(shown)

    def look_and_ask(self) -> tuple[Sequence[Preview], RunResult | None]:
        """What the steps find, and how the run ended, if it did."""
        for job in self.jobs:
            job.prepare()
        start = time.monotonic()
        with looking(self.database) as kept:
            shown = [self._show(job, store=True) for job in self.jobs]
            for job, found in zip(self.jobs, shown, strict=True):
                kept += job.find_kept(found)
        looked = time.monotonic() - start
        ended = self._ended_early(shown)
        if not ended and self.manner.ask_first:
            self._foretell(shown, looked)
        if not ended and self.manner.ask_first and not self.answers.allow(shown):
            ended = self._result(Outcome.DECLINED, status=Declined.status)
        return shown, ended

    def _foretell(self, shown: Sequence[Preview], looked: float) -> None:
        """Who is asked about many rows is told what they would cost."""
        job, found = self.jobs[0], shown[0]
        if len(self.jobs) > 1 or not job.is_foretold or found.reach.rows < _MANY:
            return
        from yeldro.usecases.forecast import forecast

        kept = self.keeper.keeping
        folder = kept.folder if kept and kept.archive else None
        hold = (self.manner.pace or Pace()).hold
        try:
            told = forecast(self.database, cast(BatchJob, job), found, looked, folder, hold)
        except YeldroError:  # as a lock that somebody holds: the question can do without
            undo(self.database)
            return
        if told:
            self.answers.show_forecast(told)

    def _take_turns(self, shown: Sequence[Preview]) -> RunResult:
        """Every step in its turn, once all sealed ones have found what was sealed."""
        # The first is looked at in its turn. Later ones could only be judged wrongly then, after
        # changes of ours.
        for job, found in zip(self.jobs[1:], shown[1:], strict=bool(shown)):
            if job.seal and (ended := self._differs(job, found, self._look(job))):
                return ended
        for place, job in enumerate(self.jobs):
            ended = self._take_turn(job, shown[place] if shown else None)
            if ended:
                return ended
        return self._end()

    @property
    def _changed(self) -> bool:
        return any(account.tally for account in self.done)

    def _show(self, job: Job, *, store: bool = False) -> Preview:
        self.preview = self._look(job, store=store)
        self.life.shown = True
        self.answers.show(self.preview)
        return self.preview

    def _look(self, job: Job, *, store: bool = False, shown: bool = True) -> Preview:
        found = job.look(store=store, shown=shown)
        if store:
            found = check_seal(self.database, job, found, self.compare)
        last = job is self.jobs[-1] and (self.life.begun or len(self.jobs) == 1)
        return judge(
            self.database,
            job,
            found,
            self.limits,
            [account.preview.reach for account in self.done],
            last=last,
        )

    def _ended_early(self, shown: Sequence[Preview]) -> RunResult | None:
        """Nothing is changed before the first step that finds rows: those after it are judged in
        their turn."""
        for found in shown:
            if found.difference:
                return self._stopped(
                    found,
                    tell(found.refusals[0], voice_of(found)),
                    "yeldro preview FILE --seal seals what there is now.",
                )
        for found in shown:
            if ended := self._refused(found):
                return ended
            if found.reach.touched:
                return None
        return self._result(Outcome.NOTHING_MATCHED, shown[0])

    def _refused(self, found: Preview) -> RunResult | None:
        if found.refusals:
            return self._stopped(found, tell(found.refusals[0], voice_of(found)))
        if not found.reach.touched:
            return None
        if not self._changed:
            self._check_rights(found.reach)
        reason = self.keeper.find_fault(found.reach)
        hint = "Leave the column out with --leave-out, or keep no copy with --no-archive."
        return self._stopped(found, reason, hint) if reason else None

    def _check_rights(self, reach: Reach) -> None:
        """Refused where the account may not do what the reach asks for."""
        changed = [
            (detachment.reference.child, detachment.reference.columns)
            for detachment in reach.detached
            if detachment.rows
        ]
        changed += [(change.table, change.columns) for change in reach.changes if change.rows]
        self.database.check_rights([keys.table for keys, rows in reach.deleted if rows], changed)

    def _stopped(self, found: Preview | None, reason: str, hint: str = "") -> RunResult:
        """Before the first change it is stopped, after that rolled back."""
        undone = self._changed
        self.database.rollback()
        if found and found.step and len(self.jobs) > 1:
            reason = f"Step {found.step}: {reason}"
        if undone:
            run = self.keeper.rolled_back(reason)
            return self._result(Outcome.ROLLED_BACK, found, None, reason, hint, Refused.status, run)
        self.keeper.drop()
        return self._result(Outcome.STOPPED, found, None, reason, hint, Refused.status)

    def _take_turn(self, job: Job, shown: Preview | None) -> RunResult | None:
        """Look once more, now that nobody can change it, and do it."""
        if shown:
            found = self._look(job, shown=self._changed)
            if ended := self._differs(job, shown, found):
                return ended
        else:
            found = self._show(job)
        if ended := self._refused(found):
            return ended
        if not found.reach.touched:
            self.done.append(StepAccount(found))
            return None
        # On disk before the first row goes.
        self.keeper.keep(found)
        if job.selection.truncate and not self.database.abilities.rolls_back_truncate:
            self.keeper.pass_the_point_of_no_return()
        plan = make_plan(found.reach, [scan.reference for scan in found.scanned])
        tally = run_plan(self.database, plan, recount=self.manner.recount, allowed=job.allowed)
        self.done.append(StepAccount(found, tally))
        fault = (
            f"The tally does not balance: {tally.fault}"
            if not tally.balanced
            else job.find_fault(found)
        )
        return self._rolled_back(f"{fault}.", tally.hint) if fault else None

    def _differs(self, job: Job, shown: Preview, found: Preview) -> RunResult | None:
        """Where earlier steps may be the cause, rows that are gone by now do no harm, and others
        can be allowed."""
        came, went = 0, 0
        if not job.selection.truncate:
            came, went = count_differences(self.database, shown.reach, found.reach)
        elif found.reach.matched != shown.reach.matched:
            came = max(0, found.reach.matched - shown.reach.matched)
            went = max(0, shown.reach.matched - found.reach.matched)
        if (came or went) and not self._changed:
            reason = (
                f"The data changed since the preview ({count(came, 'row')} added, {went:,} gone)."
            )
            return self._stopped(shown, reason, AGAIN)
        if came and job.seal:
            return self._stopped(
                found,
                f"{count(came, 'row')} of it {'is' if came == 1 else 'are'} not under its seal: "
                "earlier steps brought them in.",
            )
        if came and self.manner.ask_first:
            self.answers.show(found)
            if not self.answers.allow_more(found, came):
                return self._declined()
        return None

    def _rolled_back(self, reason: str, hint: str) -> RunResult:
        self.database.rollback()
        found, tally = self.done[-1].preview, self._tally()
        run = self.keeper.rolled_back(reason, tally)
        outcome = Outcome.IN_DOUBT if self.life.is_final else Outcome.ROLLED_BACK
        return self._result(outcome, found, tally, reason, hint, Refused.status, run)

    def _declined(self) -> RunResult:
        self.database.rollback()
        self.keeper.drop()
        return self._result(
            Outcome.DECLINED, tally=self._tally() if self._changed else None, status=Declined.status
        )

    def _tally(self) -> Tally:
        return add_tallies([account.tally for account in self.done if account.tally])

    def _end(self) -> RunResult:
        if not self._changed:
            self.database.rollback()
            return self._result(Outcome.NOTHING_MATCHED, self.done[0].preview)
        tally = self._tally()
        if self.manner.rehearse:
            self.database.rollback()
            return self._result(Outcome.REHEARSED, tally=tally)
        if self.manner.ask_last and not self.answers.allow_commit(tally):
            return self._declined()
        self.answers.committing()
        self.keeper.committing(tally, self.done if len(self.jobs) > 1 else [])
        for job in self.jobs:
            if job.unique_name:
                self.keeper.made_unique(job.selection.table, job.unique_name)
        self.database.announce(Phase.COMMITTING, "", None)
        self.database.commit()
        run = self.keeper.committed()
        try:
            for job in self.jobs:
                job.follow_up()
        except YeldroError as error:
            reason = (
                "The rows are as they should be, but the unique index was not added. "
                f"{error.message}"
            )
            return self._result(
                Outcome.COMMITTED, None, tally, reason, error.hint, error.status, run
            )
        return self._result(Outcome.COMMITTED, tally=tally, run=run)

    def _result(
        self,
        outcome: Outcome,
        preview: Preview | None = None,
        tally: Tally | None = None,
        reason: str = "",
        hint: str = "",
        status: int = 0,
        run: str = "",
    ) -> RunResult:
        """Without a `preview` it is the last one that there was."""
        last = preview or (self.done[-1].preview if self.done else self.preview)
        steps = tuple(self.done) if len(self.jobs) > 1 else ()
        return RunResult(outcome, last, tally, reason, hint, status, run, steps=steps)

    def failed(self, error: YeldroError) -> RunResult:
        """How it ended."""
        outcome = self.life.find_outcome(error)
        run = self.keeper.rolled_back(error.message)
        return self._result(
            outcome, self.preview, None, error.message, error.hint, error.status, run
        )
