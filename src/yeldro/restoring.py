"""The use cases of run records: restore a run, and settle one that is in doubt."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import suppress
from dataclasses import dataclass
from typing import Protocol

from yeldro.core.archive import Portion, Stage
from yeldro.core.database import Database, KeySet, Mode
from yeldro.core.outcome import Outcome, RunResult
from yeldro.core.restore import RestorePlan, find_entangled, make_restore_plan, narrow, run_restore
from yeldro.core.schema import Table
from yeldro.core.tally import Tally
from yeldro.core.values import read_key
from yeldro.errors import ArchiveFailed, Declined, Refused, UsageError, YeldroError
from yeldro.running import carry_out, transaction
from yeldro.store.archive import ArchiveReader
from yeldro.store.records import IN_DOUBT, RUNNING, RunRecord, now, who


class RestoreAnswers(Protocol):
    """The person, or a script, on the other side."""

    def show_plan(self, plan: RestorePlan) -> None: ...

    def allow_restore(self, plan: RestorePlan) -> bool: ...

    def copying(self, rows: int, total: int) -> None:
        """Told now and then how many of the archived rows were sent to the database."""
        ...

    def committing(self) -> None: ...


@dataclass(frozen=True, slots=True)
class RestoreRequest:
    """What of a run is to come back: `tables` and `keys` choose a part. `keep_differing` leaves rows that are there
    with other values; `no_rollback`: triggers may do what cannot be taken back; `into` is the name of another database than the run's own."""

    tables: tuple[str, ...] = ()
    keys: tuple[str, ...] = ()
    keep_differing: bool = False
    rehearse: bool = False
    ask: bool = True
    no_rollback: bool = False
    into: str = ""


def restore(database: Database, record: RunRecord, request: RestoreRequest, answers: RestoreAnswers) -> RunResult:
    """Put the archived rows of a run back, parents first, in one transaction."""
    if not request.into and IN_DOUBT in (record.outcome, record.restored):
        settle(database, record)
    if record.outcome == RUNNING:
        raise Refused(f"The run {record.name} is still under way.")
    if not record.facts["archive"]:
        raise Refused(f"The run {record.name} kept no archive, so nothing of it can be restored.")
    if record.facts["engine"] != database.dialect:
        raise UsageError("A run can only be restored into a database of the same engine.")
    if record.outcome == "rolled-back":
        return RunResult(Outcome.NOTHING_TO_RESTORE, reason="The run was rolled back.", run=record.name)
    source = ArchiveReader(record.archive)
    try:
        if not source.is_complete:
            return RunResult(Outcome.NOTHING_TO_RESTORE, reason="The run changed nothing.", run=record.name)
        return _Restoration(database, record, source, request, answers).go()
    finally:
        source.close()


class _Restoration:
    def __init__(
        self,
        database: Database,
        record: RunRecord,
        source: ArchiveReader,
        request: RestoreRequest,
        answers: RestoreAnswers,
    ) -> None:
        self.database = database
        self.record = record
        self.source = source
        self.request = request
        self.answers = answers
        self.plan: RestorePlan | None = None
        self.begun = False
        self.is_final = False
        self.gone = 0

    def go(self) -> RunResult:
        return carry_out(self.database, self._go, self._failed)

    def _go(self) -> RunResult:
        portions = self.source.portions(self.database.schema)
        in_part = self.request.tables or self.request.keys
        if label := find_entangled(portions):
            # What a row was in the middle of the run, nobody can tell from what it was before.
            if in_part:
                raise Refused(f"Several steps touched {label}: this run can only be restored whole.")
            if self.record.restored == "yes" and not self.request.into:
                notes = ("It was restored already, and several of its steps touched the same table.",)
                return RunResult(Outcome.NOTHING_TO_RESTORE, run=self.record.name, notes=notes)
        if in_part:
            self.gone, _ = count_gone(self.database, self.record)
        stages = self._stage(portions)
        if any(stage.portion.orphans for stage in stages):
            self.database.allow_orphans()
        with transaction(self.database, Mode.READ):
            self.plan = plan = self._look(stages)
        self.answers.show_plan(plan)
        if plan.refusals:
            return self._result(Outcome.STOPPED, plan.refusals[0], Refused.status)
        if not plan.rows:
            return self._result(Outcome.NOTHING_TO_RESTORE)
        if self.request.ask and not self.answers.allow_restore(plan):
            return self._result(Outcome.DECLINED, status=Declined.status)
        self.database.begin(Mode.WRITE)
        self.begun = True
        fresh = self._look(stages)
        if fresh.figures() != plan.figures():
            self.database.rollback()
            return self._result(Outcome.STOPPED, "Rows came or went meanwhile. Look again.", Refused.status)
        tally = run_restore(self.database, fresh, keep_differing=self.request.keep_differing)
        if not tally.balanced:
            self.database.rollback()
            reason = f"The tally does not balance: {tally.fault}."
            return self._result(Outcome.ROLLED_BACK, reason, Refused.status, tally)
        if self.request.rehearse:
            self.database.rollback()
            return self._result(Outcome.REHEARSED, tally=tally)
        self.answers.committing()
        return self._commit(fresh, tally)

    def _stage(self, portions: Sequence[Portion]) -> list[Stage]:
        chosen: list[Table] = [self.database.schema.find_table(name) for name in self.request.tables]
        for table in chosen:
            if table not in [portion.table for portion in portions]:
                raise UsageError(f"The run touched no row of {table.label}.")
        wanted = [portion for portion in portions if not chosen or portion.table in chosen]
        total, done = sum(portion.rows for portion in wanted), 0

        def tick(rows: int) -> None:
            nonlocal done
            done += rows
            self.answers.copying(done, total)

        self.source.tick = tick
        stages = [self.database.stage(portion, self.source) for portion in wanted]
        if self.request.keys:
            if len(chosen) > 1:
                raise UsageError("--key goes with one --table.")
            if not chosen and self.record.facts.get("steps"):
                raise UsageError("The run has several steps.", "--key goes with one --table.")
            root = chosen[0] if chosen else self.database.schema.find_table(self.record.facts["table"])
            stages = [stage for stage in stages if stage.key]
            listed: KeySet = self.database.load_keys(root, [read_key(text, root) for text in self.request.keys])
            if not narrow(self.database, stages, root, listed):
                raise UsageError(f"The run archived no row of {root.label} with that key.")
        return stages

    def _look(self, stages: Sequence[Stage]) -> RestorePlan:
        request = self.request
        return make_restore_plan(
            self.database,
            self.record.name,
            stages,
            keep_differing=request.keep_differing,
            no_rollback=request.no_rollback,
        )

    def _commit(self, plan: RestorePlan, tally: Tally) -> RunResult:
        entry = {
            "when": now(),
            "by": who(),
            "into": self.request.into,
            "rows": plan.rows,
            "whole": not (self.request.tables or self.request.keys),
            "gone_after": max(0, self.gone - plan.inserted),
            "outcome": IN_DOUBT,
        }
        restored = [*self.record.facts["restored"], entry]
        self.record.write(restored=restored)
        self.is_final = True
        self.database.commit()
        with suppress(ArchiveFailed):
            self.record.write(restored=[*restored[:-1], {**entry, "outcome": "committed"}])
        return self._result(Outcome.COMMITTED, tally=tally)

    def _result(self, outcome: Outcome, reason: str = "", status: int = 0, tally: Tally | None = None) -> RunResult:
        notes = self.plan.notes if self.plan else ()
        return RunResult(outcome, None, tally, reason, status=status, run=self.record.name, notes=notes)

    def _failed(self, error: YeldroError) -> RunResult:
        if self.plan is None:
            raise error
        outcome = Outcome.ROLLED_BACK if self.begun else Outcome.STOPPED
        if self.is_final:
            outcome = Outcome.IN_DOUBT
        return RunResult(outcome, None, None, error.message, error.hint, error.status, self.record.name)


def settle(database: Database, record: RunRecord) -> None:
    """Find out what became of a run, or of a restoration, that died before it could say so: look the keys up."""
    gone, rows = count_gone(database, record)
    if record.outcome == IN_DOUBT:
        record.write(outcome="committed" if gone else "rolled-back", gone={"rows": gone, "of": rows}, settled=now())
    restored = record.facts["restored"]
    if record.restored == IN_DOUBT:
        settled = [
            {**one, "outcome": "committed" if gone <= one["gone_after"] else "rolled-back"}
            if one["outcome"] == IN_DOUBT
            else one
            for one in restored
        ]
        record.write(restored=settled)


def count_gone(database: Database, record: RunRecord) -> tuple[int, int]:
    """How many of the archived rows that the run deleted are not in their tables, and how many there were."""
    if not record.archive.exists():
        return 0, 0
    source = ArchiveReader(record.archive)
    try:
        if not source.is_complete:
            return 0, 0
        portions = source.portions(database.schema)
        stages = [database.stage(portion, source) for portion in portions if portion.action == "delete"]
        with transaction(database, Mode.READ):
            standings = [database.stand(stage) for stage in stages]
    finally:
        source.close()
    return sum(one.absent for one in standings), sum(one.rows for one in standings)
