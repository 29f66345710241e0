"""One restoration of a run: look, ask, put back, prove, commit."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import contextmanager, suppress
from typing import Protocol

from msgspec import Struct
from msgspec.structs import replace

from yeldro.core.database.archive_format import Portion, Stage
from yeldro.core.database.connection import Database
from yeldro.core.database.followers import Follower
from yeldro.core.database.phase import Phase
from yeldro.core.model.fact import Fact, fact
from yeldro.core.model.schema import Table, TableName
from yeldro.core.model.shape import PartKind
from yeldro.core.model.values import read_key
from yeldro.core.restore.batches import merge_batches
from yeldro.core.restore.execute import run_restore
from yeldro.core.restore.narrow import narrow
from yeldro.core.restore.plan import NotRestorable, RestorePlan, find_entangled, make_restore_plan
from yeldro.core.run.batching import Pace
from yeldro.core.run.outcome import Outcome, RunResult
from yeldro.core.run.tally import Tally
from yeldro.core.selection.grouping import Grouping, Same
from yeldro.core.selection.selection import Selection
from yeldro.errors import ArchiveFailed, Declined, NotCommitted, Refused, UsageError, YeldroError
from yeldro.store.archive_reader import ArchiveReader
from yeldro.store.batch_file import BATCHES, UNDONE, BatchFile
from yeldro.store.run_facts import Restoration as RestorationFacts
from yeldro.store.run_record import IN_DOUBT, RunRecord, now, who
from yeldro.usecases.answers import BatchAnswers
from yeldro.usecases.schema_watch import SchemaChanged, SchemaWatch
from yeldro.usecases.settle import find_run_traces
from yeldro.usecases.transaction import LifeCycle, carry_out, looking, undo
from yeldro.words.tell import tell


class RestoreAnswers(BatchAnswers, Protocol):
    """The person, or a script, on the other side."""

    def show_plan(self, plan: RestorePlan) -> None: ...

    def allow_restore(self, plan: RestorePlan) -> bool: ...

    def copying(self, rows: int, total: int) -> None:
        """Told now and then how many of the archived rows were sent to the database."""
        ...

    def committing(self) -> None: ...


class RestoreRequest(Struct, frozen=True):
    """What of a run is to come back: `tables` and `keys` choose a part. `keep_differing` leaves
    rows that are there with other values; `no_rollback`: triggers may do what cannot be taken back;
    `into` is the name of another database than the run's own; with a `pace` it goes in batches, and
    `followers` are servers to look at between them."""

    tables: tuple[str, ...] = ()
    keys: tuple[str, ...] = ()
    keep_differing: bool = False
    rehearse: bool = False
    ask: bool = True
    no_rollback: bool = False
    into: str = ""
    pace: Pace | None = None
    followers: tuple[Follower, ...] = ()
    even_if_altered: bool = False
    left_out: tuple[str, ...] = ()
    allow_trigger: tuple[str, ...] = ()


class Restoration:
    """One restoration, in one transaction."""

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
        self.life = LifeCycle()
        self.is_undone = False
        self.gone = 0
        self._dropped: set[tuple[TableName, tuple[PartKind, str]]] = set()

    def go(self) -> RunResult:
        return carry_out(self.database, self._go, self._failed)

    def _read_portions(self) -> list[Portion]:
        portions = self._read_all()
        return merge_batches(portions) if "batches" in self.record.facts else portions

    def _read_all(self) -> list[Portion]:
        """All that was archived, but for attempts of which nothing became."""
        portions = self.source.portions(self.database.schema, self.request.left_out)
        if "batches" not in self.record.facts:
            return portions
        attempts = BatchFile(self.record.folder / BATCHES).read()
        undone = {one["attempt"] for one in attempts if one["state"] == UNDONE}
        return [portion for portion in portions if portion.step not in undone]

    def _go(self) -> RunResult:
        portions = self._read_portions()
        if label := find_entangled(portions):
            # What a row was in the middle of the run, nobody can tell from what it was before.
            if self._is_in_part:
                raise Refused(
                    f"Several steps touched {label}: this run can only be restored whole."
                )
            if self.record.restored == "yes" and not self.request.into:
                note = "It was restored already, and several of its steps touched the same table."
                return RunResult(Outcome.NOTHING_TO_RESTORE, run=self.record.name, notes=(note,))
        if self._is_in_part:
            self.gone = find_run_traces(self.database, self.record).left
        stages = self._stage(portions)
        # Rows that pointed at nothing before the run come back as they were, where the engine can
        # let them.
        if any(stage.portion.orphans for stage in stages):
            self.database.archive.allow_orphans()
        with looking(self.database):
            self.plan = plan = self._look(stages)
        self.life.shown = True
        if not self._is_in_part:
            self.gone = plan.traces.left
        self.answers.show_plan(plan)
        if plan.refusals:
            return self._result(Outcome.STOPPED, tell(plan.refusals[0]), Refused.status)
        if not plan.rows:
            return self._result(Outcome.NOTHING_TO_RESTORE, tell(self._explain_nothing(plan)))
        if self.request.ask and not self.answers.allow_restore(plan):
            return self._result(Outcome.DECLINED, status=Declined.status)
        return self._restore(plan, stages)

    @staticmethod
    def _explain_nothing(plan: RestorePlan) -> Fact:
        """Why nothing comes back: rows are there, or others have their keys."""
        taken = sum(part.standing.differing for part in plan.parts)
        return fact("restore.kept", rows=taken) if taken else fact("restore.all-there")

    @property
    def _is_whole(self) -> bool:
        """Whether all rows are there again once it is committed."""
        return not self._is_in_part

    @property
    def _is_in_part(self) -> bool:
        """Whether only some of the rows are asked for."""
        return bool(self.request.tables or self.request.keys)

    def _restore(self, plan: RestorePlan, stages: Sequence[Stage]) -> RunResult:
        indexes = self._find_indexes()
        if not self.database.abilities.ddl_commits:
            return self._write(plan, stages, indexes)
        if indexes and self.request.rehearse:
            raise Refused(
                "The unique index must be dropped first, which commits here: it cannot be "
                "rehearsed."
            )
        with self._without(indexes):
            return self._write(plan, stages, [])

    def _find_indexes(self) -> list[tuple[Table, str]]:
        """The unique indexes that the run added and that are still there."""
        if self.request.into:
            return []
        found = []
        for one in self.record.facts.get("made_indexes", ()):
            table = self.database.schema.by_name.get(TableName(one["schema"] or "", one["table"]))
            if table and any(index.name == one["name"] for index in table.indexes):
                found.append((table, one["name"]))
        return found

    @contextmanager
    def _without(self, indexes: Sequence[tuple[Table, str]]) -> Iterator[None]:
        """Drop indexes outside of the transaction. They are added again where the rows do not come
        back."""
        for table, name in indexes:
            self.database.drop_unique(table, name)
            self._dropped.add((table.name, (PartKind.UNIQUE, name)))
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
                Grouping(Selection(table), tuple(Same(column, column) for column in index.columns)),
                name,
            )

    def _write(
        self, plan: RestorePlan, stages: Sequence[Stage], indexes: Sequence[tuple[Table, str]]
    ) -> RunResult:
        try:
            self._begin(stages)
        except SchemaChanged as error:
            return self._result(Outcome.STOPPED, error.message, Refused.status)
        self.life.begun = True
        for table, name in indexes:
            self.database.drop_unique(table, name)
        # Looked at again under the lock: what a person was shown may have changed meanwhile.
        fresh = self._look(stages)
        if fresh.figures() != plan.figures():
            self._undo()
            return self._result(
                Outcome.STOPPED,
                "The data changed since the preview. Preview again.",
                Refused.status,
            )
        tally = self._put_back(fresh)
        if not tally.balanced:
            self._undo()
            reason = f"The tally does not balance: {tally.fault}."
            found = self._result(Outcome.ROLLED_BACK, reason, Refused.status, tally)
            return replace(found, hint=tally.hint)
        if self.request.rehearse:
            self._undo()
            return self._result(Outcome.REHEARSED, tally=tally)
        self.answers.committing()
        before = self.record.facts["restored"]
        entry = self._commit(fresh)
        with suppress(ArchiveFailed):
            self.record.write(restored=[*before, entry])
        return self._result(Outcome.COMMITTED, tally=tally)

    def _begin(self, stages: Sequence[Stage]) -> None:
        tables = list(dict.fromkeys(stage.table for stage in stages))
        # What this restoration dropped itself is no change of somebody else's.
        shown = {
            name: {part: text for part, text in parts.items() if (name, part) not in self._dropped}
            for name, parts in self.database.shape.items()
        }
        SchemaWatch(self.database, tables, shown).begin()

    def _put_back(self, plan: RestorePlan) -> Tally:
        try:
            request = self.request
            return run_restore(
                self.database,
                plan,
                keep_differing=request.keep_differing,
                allowed=frozenset(request.allow_trigger),
            )
        except NotRestorable as error:
            raise Refused(tell(error.found)) from None

    def _undo(self) -> None:
        self.database.rollback()
        self.is_undone = True

    def _stage(self, portions: Sequence[Portion]) -> list[Stage]:
        """Send the archived rows that are asked for to the database."""
        chosen = [self.database.schema.find_table(name) for name in self.request.tables]
        for table in chosen:
            if table not in [portion.table for portion in portions]:
                raise UsageError(f"The run touched no row of {table.label}.")
        wanted = [portion for portion in portions if not chosen or portion.table in chosen]
        total, done = sum(portion.rows for portion in wanted), 0

        def tick(rows: int) -> None:
            nonlocal done
            done += rows
            self._tell_copying(done, total)

        self.source.tick = tick
        stages = [self.database.archive.stage(portion, self.source) for portion in wanted]
        return self._narrow(stages, chosen) if self.request.keys else stages

    def _tell_copying(self, rows: int, total: int) -> None:
        self.answers.copying(rows, total)

    def _narrow(self, stages: Sequence[Stage], chosen: Sequence[Table]) -> list[Stage]:
        """Only the rows that were named by their keys, and what depended on them."""
        if len(chosen) > 1:
            raise UsageError("--key goes with one --table.")
        if not chosen and self.record.facts.get("steps"):
            raise UsageError("The run has several steps.", "--key goes with one --table.")
        named = self.record.facts["table"]
        root = chosen[0] if chosen else self.database.schema.find_table(named)
        keyed = [stage for stage in stages if stage.key]
        keys = [read_key(text, root) for text in self.request.keys]
        listed = self.database.load_keys(root, root.key, keys)
        if not narrow(self.database, keyed, root, listed):
            raise UsageError(f"The run archived no row of {root.label} with that key.")
        return keyed

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
            fact("restore.index", name=name, table=table) for table, name in self._find_indexes()
        ]
        if self.found_gone:
            notes.append(fact("restore.found-gone", rows=self.found_gone))
        in_batches = "batches" in self.record.facts
        return replace(plan, notes=(*notes, *plan.notes), in_batches=in_batches)

    def _commit(self, plan: RestorePlan) -> RestorationFacts:
        """Returns what the record says of it."""
        entry = RestorationFacts(
            when=now(),
            by=who(),
            into=self.request.into,
            rows=plan.rows,
            whole=self._is_whole,
            gone_before=self.gone,
            gone_after=max(0, self.gone - plan.wiped),
            transaction=self.database.find_transaction(),
            dropped_indexes=[name for _, name in self._find_indexes()],
            outcome=IN_DOUBT,
        )
        before = self.record.facts["restored"]
        self.record.write(restored=[*before, entry])
        self.life.is_final = True
        self.database.announce(Phase.COMMITTING, "", None)
        try:
            self.database.commit()
        except NotCommitted:
            self.record.write(restored=before)
            raise
        entry["outcome"] = "committed"
        return entry

    def _result(
        self, outcome: Outcome, reason: str = "", status: int = 0, tally: Tally | None = None
    ) -> RunResult:
        notes = tuple(map(tell, self.plan.notes)) if self.plan else ()
        return RunResult(
            outcome, None, tally, reason, status=status, run=self.record.name, notes=notes
        )

    def _failed(self, error: YeldroError) -> RunResult:
        outcome = self.life.find_outcome(error)
        return RunResult(
            outcome, None, None, error.message, error.hint, error.status, self.record.name
        )
