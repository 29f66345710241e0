"""The use cases of run records: restore a run, and settle one that is in doubt."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import contextmanager, suppress
from dataclasses import dataclass, replace
from typing import Protocol

from yeldro.core.database.abilities import Mode
from yeldro.core.database.archive_format import Portion, Stage
from yeldro.core.database.connection import Database
from yeldro.core.model.action import Action
from yeldro.core.model.key_set import StoredKeys
from yeldro.core.model.schema import Table, TableName
from yeldro.core.model.values import read_key
from yeldro.core.restore.execute import run_restore
from yeldro.core.restore.narrow import narrow
from yeldro.core.restore.plan import RestorePlan, find_entangled, make_restore_plan
from yeldro.core.run.outcome import Outcome, RunResult
from yeldro.core.run.tally import Tally
from yeldro.core.selection.grouping import Grouping, Same
from yeldro.core.selection.selection import Selection
from yeldro.errors import ArchiveFailed, Declined, NotCommitted, Refused, UsageError, YeldroError
from yeldro.store.archive import ArchiveReader
from yeldro.store.records import IN_DOUBT, RUNNING, RunRecord, now, who
from yeldro.usecases.run import carry_out, looking, undo


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
    """What of a run is to come back: `tables` and `keys` choose a part. `keep_differing` leaves
    rows that are there with other values; `no_rollback`: triggers may do what cannot be taken back;
    `into` is the name of another database than the run's own."""

    tables: tuple[str, ...] = ()
    keys: tuple[str, ...] = ()
    keep_differing: bool = False
    rehearse: bool = False
    ask: bool = True
    no_rollback: bool = False
    into: str = ""


def restore(
    database: Database, record: RunRecord, request: RestoreRequest, answers: RestoreAnswers
) -> RunResult:
    """Put the archived rows of a run back, parents first, in one transaction."""
    in_doubt = not request.into and IN_DOUBT in (record.outcome, record.restored)
    if in_doubt and (reason := settle(database, record)):
        raise Refused(f"The run {record.name} stays in doubt: {reason}.")
    if record.outcome == RUNNING:
        raise Refused(f"The run {record.name} is still under way.")
    if not record.facts["archive"]:
        raise Refused(f"The run {record.name} kept no archive, so nothing of it can be restored.")
    if record.facts["engine"] != database.dialect:
        raise UsageError("A run can only be restored into a database of the same engine.")
    undone = record.outcome == "rolled-back"
    gone = 0
    if undone and record.archive.exists() and not request.into:
        with suppress(
            ArchiveFailed
        ):  # one that was never finished is no copy of rows that are gone
            gone = count_gone(database, record)[0]
    if undone and not gone:
        return RunResult(
            Outcome.NOTHING_TO_RESTORE, reason="The run was rolled back.", run=record.name
        )
    source = ArchiveReader(record.archive)
    try:
        _check_finished(source)
        return _Restoration(database, record, source, request, answers, gone if undone else 0).go()
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
        found_gone: int,
    ) -> None:
        """`found_gone` rows are gone of a run that its record calls rolled back."""
        self.database = database
        self.record = record
        self.found_gone = found_gone
        self.source = source
        self.request = request
        self.answers = answers
        self.plan: RestorePlan | None = None
        self.begun = False
        self.is_final = False
        self.is_undone = False
        self.gone = 0

    def go(self) -> RunResult:
        return carry_out(self.database, self._go, self._failed)

    def _go(self) -> RunResult:
        portions = self.source.portions(self.database.schema)
        in_part = self.request.tables or self.request.keys
        if label := find_entangled(portions):
            # What a row was in the middle of the run, nobody can tell from what it was before.
            if in_part:
                raise Refused(
                    f"Several steps touched {label}: this run can only be restored whole."
                )
            if self.record.restored == "yes" and not self.request.into:
                notes = (
                    "It was restored already, and several of its steps touched the same table.",
                )
                return RunResult(Outcome.NOTHING_TO_RESTORE, run=self.record.name, notes=notes)
        if in_part:
            self.gone, _ = count_gone(self.database, self.record)
        stages = self._stage(portions)
        if any(stage.portion.orphans for stage in stages):
            self.database.allow_orphans()
        with looking(self.database):
            self.plan = plan = self._look(stages)
        if not in_part:
            self.gone = sum(part.standing.absent for part in plan.parts if not part.is_change)
        self.answers.show_plan(plan)
        if plan.refusals:
            return self._result(Outcome.STOPPED, plan.refusals[0], Refused.status)
        if not plan.rows:
            return self._result(Outcome.NOTHING_TO_RESTORE)
        if self.request.ask and not self.answers.allow_restore(plan):
            return self._result(Outcome.DECLINED, status=Declined.status)
        indexes = self._find_indexes()
        late = self.database.abilities.ddl_commits
        if indexes and late and self.request.rehearse:
            raise Refused(
                "The unique index must be dropped first, which commits here: it cannot be "
                "rehearsed."
            )
        with self._without(indexes if late else []):
            return self._write(plan, stages, [] if late else indexes)

    def _find_indexes(self) -> list[tuple[Table, str]]:
        """The unique indexes that the run added and that are still there."""
        if self.request.into:
            return []
        made = self.record.facts.get("made_indexes", ())
        tables = [
            (self.database.schema.by_name.get(TableName(one["schema"], one["table"])), one["name"])
            for one in made
        ]
        return [
            (table, name)
            for table, name in tables
            if table and any(index.name == name for index in table.indexes)
        ]

    @contextmanager
    def _without(self, indexes: Sequence[tuple[Table, str]]) -> Iterator[None]:
        """Drop indexes outside of the transaction. They are added again where the rows do not come
        back."""
        for table, name in indexes:
            self.database.drop_unique(table, name)
        try:
            yield
        except BaseException:
            undo(self.database)
            self._add_again(indexes)
            raise
        if self.is_undone:
            self._add_again(indexes)

    def _add_again(self, indexes: Sequence[tuple[Table, str]]) -> None:
        for table, name in indexes:
            index = next(one for one in table.indexes if one.name == name)
            self.database.add_unique(
                Grouping(Selection(table), tuple(Same(one, one) for one in index.columns)), name
            )

    def _write(
        self, plan: RestorePlan, stages: Sequence[Stage], indexes: Sequence[tuple[Table, str]]
    ) -> RunResult:
        self.database.begin(Mode.WRITE)
        self.begun = True
        for table, name in indexes:
            self.database.drop_unique(table, name)
        fresh = self._look(stages)
        if fresh.figures() != plan.figures():
            self._undo()
            return self._result(
                Outcome.STOPPED,
                "The data changed since the preview. Preview again.",
                Refused.status,
            )
        tally = run_restore(self.database, fresh, keep_differing=self.request.keep_differing)
        if not tally.balanced:
            self._undo()
            reason = f"The tally does not balance: {tally.fault}."
            return self._result(Outcome.ROLLED_BACK, reason, Refused.status, tally)
        if self.request.rehearse:
            self._undo()
            return self._result(Outcome.REHEARSED, tally=tally)
        self.answers.committing()
        return self._commit(fresh, tally)

    def _undo(self) -> None:
        self.database.rollback()
        self.is_undone = True

    def _stage(self, portions: Sequence[Portion]) -> list[Stage]:
        chosen: list[Table] = [
            self.database.schema.find_table(name) for name in self.request.tables
        ]
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
            root = (
                chosen[0] if chosen else self.database.schema.find_table(self.record.facts["table"])
            )
            stages = [stage for stage in stages if stage.key]
            listed: StoredKeys = self.database.load_keys(
                root, [read_key(text, root) for text in self.request.keys]
            )
            if not narrow(self.database, stages, root, listed):
                raise UsageError(f"The run archived no row of {root.label} with that key.")
        return stages

    def _look(self, stages: Sequence[Stage]) -> RestorePlan:
        request = self.request
        plan = make_restore_plan(
            self.database,
            self.record.name,
            stages,
            keep_differing=request.keep_differing,
            no_rollback=request.no_rollback,
        )
        notes = [
            f"The unique index {name} of {table.label}, which the run added, is dropped first."
            for table, name in self._find_indexes()
        ]
        if self.found_gone:
            notes.append(
                f"The record says that the run was rolled back, but {self.found_gone:,} of its "
                "rows are gone."
            )
        return replace(plan, notes=(*notes, *plan.notes)) if notes else plan

    def _commit(self, plan: RestorePlan, tally: Tally) -> RunResult:
        entry = {
            "when": now(),
            "by": who(),
            "into": self.request.into,
            "rows": plan.rows,
            "whole": not (self.request.tables or self.request.keys),
            "gone_before": self.gone,
            "gone_after": max(0, self.gone - plan.inserted),
            "transaction": self.database.find_transaction(),
            "dropped_indexes": [name for _, name in self._find_indexes()],
            "outcome": IN_DOUBT,
        }
        restored = [*self.record.facts["restored"], entry]
        self.record.write(restored=restored)
        self.is_final = True
        try:
            self.database.commit()
        except NotCommitted:
            self.is_final = False
            self.record.write(restored=restored[:-1])
            raise
        with suppress(ArchiveFailed):
            self.record.write(restored=[*restored[:-1], {**entry, "outcome": "committed"}])
        return self._result(Outcome.COMMITTED, tally=tally)

    def _result(
        self, outcome: Outcome, reason: str = "", status: int = 0, tally: Tally | None = None
    ) -> RunResult:
        notes = self.plan.notes if self.plan else ()
        return RunResult(
            outcome, None, tally, reason, status=status, run=self.record.name, notes=notes
        )

    def _failed(self, error: YeldroError) -> RunResult:
        if self.plan is None:
            raise error
        outcome = Outcome.ROLLED_BACK if self.begun else Outcome.STOPPED
        if self.is_final:
            outcome = Outcome.IN_DOUBT
        return RunResult(
            outcome, None, None, error.message, error.hint, error.status, self.record.name
        )


def settle(database: Database, record: RunRecord) -> str:
    """Find out what became of a run, or of a restoration, that died before it could say so.

    What never came near its commit was rolled back. Else the database tells by the number of the
    transaction, where it knows it; else the keys are looked up. Returns why it stays in doubt, ""
    where it is settled.
    """
    if record.outcome == IN_DOUBT and record.facts.get("final") is False:
        record.write(outcome="rolled-back", settled=now())
    if IN_DOUBT not in (record.outcome, record.restored):
        return ""
    if lag := database.find_lag():
        return f"this server cannot tell, because {lag}"
    gone, rows = count_gone(database, record)
    if record.outcome == IN_DOUBT:
        ending = database.find_ending(str(record.facts.get("transaction") or ""))
        if ending is None and not rows:
            return "without an archive nobody can tell"
        if ending is None and 0 < gone < rows:
            return (
                f"{gone:,} of its {rows:,} archived rows are gone from their tables, and the "
                "others are there"
            )
        committed = ending if ending is not None else bool(gone)
        outcome = "committed" if committed else "rolled-back"
        record.write(outcome=outcome, gone={"rows": gone, "of": rows}, settled=now())
    return _settle_restorations(database, record, gone, rows) if record.restored == IN_DOUBT else ""


def _settle_restorations(database: Database, record: RunRecord, gone: int, rows: int) -> str:
    """By the number of the transaction, else by the rows: all that were to come back are there, or
    none of them is."""
    settled = []
    for one in record.facts["restored"]:
        if one["outcome"] != IN_DOUBT:
            settled.append(one)
            continue
        ending = database.find_ending(str(one.get("transaction") or ""))
        before = one.get("gone_before", rows)
        if ending is None and one["gone_after"] < gone < before:
            return (
                f"{gone:,} of {rows:,} archived rows are gone, of which a restore was to bring "
                "back some"
            )
        committed = ending if ending is not None else gone <= one["gone_after"]
        settled.append({**one, "outcome": "committed" if committed else "rolled-back"})
    record.write(restored=settled)
    return ""


def _check_finished(source: ArchiveReader) -> None:
    if not source.is_complete:
        raise ArchiveFailed(f"The archive {source.path} is damaged: it was never finished.")


def count_gone(database: Database, record: RunRecord) -> tuple[int, int]:
    """How many of the archived rows that the run deleted are not in their tables, and how many
    there were.

    (0, 0) where none were kept. ArchiveFailed where what was kept cannot be read.
    """
    if not record.facts["archive"]:
        return 0, 0
    source = ArchiveReader(record.archive)
    try:
        _check_finished(source)
        portions = source.portions(database.schema)
        stages = [
            database.stage(portion, source)
            for portion in portions
            if portion.action is Action.DELETE
        ]
        with looking(database):
            standings = [database.stand(stage) for stage in stages]
    finally:
        source.close()
    return sum(one.absent for one in standings), sum(one.rows for one in standings)
