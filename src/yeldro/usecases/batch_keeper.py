"""What of a run in batches is kept: one record and one archive, and a line for each batch."""

from __future__ import annotations

from contextlib import suppress
from typing import Any

from yeldro.core.database.archive_format import Portion
from yeldro.core.model.key_set import StoredKeys
from yeldro.core.model.shape import Shape
from yeldro.core.run.batching import Progress
from yeldro.core.run.outcome import Outcome
from yeldro.core.run.preview import Preview
from yeldro.core.run.tally import Tally
from yeldro.errors import ArchiveFailed
from yeldro.store.archive_writer import ArchiveWriter
from yeldro.store.batch_file import (
    BATCHES,
    BEGUN,
    COMMITTED,
    COMMITTING,
    IN_DOUBT,
    KEYS,
    UNDONE,
    BatchFacts,
    BatchFile,
)
from yeldro.store.fingerprints import open_fingerprints
from yeldro.store.run_facts import PaceFacts, describe_tally
from yeldro.store.run_record import IN_DOUBT as RUN_IN_DOUBT
from yeldro.store.run_record import RunRecord, now
from yeldro.store.shape_file import write_shape
from yeldro.usecases.record_keeper import Keeper


class BatchKeeper(Keeper):
    """Keeps a run in batches. `attempt` is the number of the last attempt at a batch, which no
    other one ever has; `batches` is how many were committed."""

    attempt = 0
    batches = 0
    state = UNDONE
    """What the last attempt has come to, as far as this process knows."""

    def begin_all(self, found: Preview, facts: PaceFacts, shown: Shape) -> None:
        """Begin the record, before the first batch. It keeps the shape that was shown."""
        if self.keeping:
            self._kept.append(found)
            self._record = self._begin(self.keeping)
            write_shape(self._record.folder, shown)
            self._record.write(batches=facts)

    def take_up(self, record: RunRecord) -> list[BatchFacts]:
        """Hold the record of a run that was stopped, so that nobody else goes on with it. Returns
        the batches that were committed."""
        record.hold()
        self._record = record
        journal = BatchFile(record.folder / BATCHES)
        done = journal.committed()
        self.batches = len(done)
        self.attempt = max((one["attempt"] for one in journal.read()), default=0)
        return done

    def go_on(self, shown: Shape | None = None) -> None:
        """From here on what becomes of it is open again, with another shape where one is given."""
        assert self._record
        record = self._record
        if shown is not None:
            write_shape(record.folder, shown)
        marks = open_fingerprints(record)
        more = {"fingerprints": marks} if marks and record.is_whole else {}
        record.write(outcome=RUN_IN_DOUBT, ended=None, reason="", **more)
        if record.facts["archive"] and record.archive.exists():
            dialect, encoding = self.database.dialect, self.database.encoding
            self._writer = ArchiveWriter(record.archive, dialect, encoding, again=True)
            # The line of an attempt may be lost while its copy is not.
            self.attempt = max([self.attempt, *self._writer.find_steps()])

    def keep_keys(self, numbered: StoredKeys) -> None:
        """Keep the keys of all rows that were chosen: temporary tables die with the connection."""
        if not self._record:
            return
        writer = ArchiveWriter(
            self._record.folder / KEYS, self.database.dialect, self.database.encoding
        )
        try:
            rows, key = self.database.numbered.count(numbered), numbered.columns
            portion = Portion(1, numbered.table, key, rows, key)
            writer.begin([portion], self.database.archive.find_form, {})
            copied = self.database.archive.extract_keys(portion, numbered, writer)
            writer.finish([(portion, copied)])
            writer.complete()
        finally:
            writer.close()

    @property
    def _journal(self) -> BatchFile | None:
        return BatchFile(self._record.folder / BATCHES) if self._record else None

    @property
    def copies(self) -> bool:
        """Whether rows are archived before they go."""
        return bool(self._record and self.keeping and self.keeping.archive)

    def keep(self, found: Preview) -> None:
        """Begin an attempt, and archive what it touches: synced when this returns."""
        self.attempt += 1
        self._add(BEGUN)
        if self._record and self.copies:
            self._archive(self._record, found.reach, self.attempt)

    def commit_batch(self, facts: dict[str, Any], tally: Tally) -> None:
        """Right before the commit of a batch."""
        self._add(
            COMMITTING,
            transaction=self.database.find_transaction(),
            tally=describe_tally(tally),
            **facts,
        )
        self.life.is_final = True

    def _add(self, state: str, **facts: Any) -> None:
        self.state = state
        if self._journal:
            line = {
                "attempt": self.attempt,
                "batch": self.batches + 1,
                "state": state,
                "at": now(),
                **facts,
            }
            self._journal.add(BatchFacts(**line))  # type: ignore[typeddict-item]

    def batch_committed(self, **facts: Any) -> None:
        """Where that cannot be written down, the run ends in doubt, and what the database knows
        settles it."""
        self._add(COMMITTED, **facts)
        self.life.is_final = False
        self.batches += 1

    def batch_rolled_back(self) -> None:
        """Its rows are where they were, so their copy goes. What may have been committed stays."""
        if self.life.is_final:
            if self.state == COMMITTING:
                self._add(IN_DOUBT)
            return
        if self.state not in (BEGUN, COMMITTING):
            return
        if self._writer:
            self._writer.cut([self.attempt])
        self._add(UNDONE)

    def rolled_back(self, reason: str, tally: Tally | None = None) -> str:
        """Of a run that goes on, what its earlier batches left stays."""
        return self.name if self.batches else super().rolled_back(reason, tally)

    def drop(self) -> None:
        if not self.batches:
            super().drop()

    def end_all(
        self, outcome: Outcome, progress: Progress, tally: Tally | None, reason: str = ""
    ) -> str:
        """The last word of the record. Returns its name."""
        self.database.record(None)
        if not self._record:
            return ""
        if self._writer:
            self._writer.complete()
        label = outcome.label
        with suppress(ArchiveFailed):
            self._record.write(
                outcome=label,
                ended=now(),
                reason=reason,
                tally=describe_tally(tally) if tally else [],
                batches={
                    **self._record.facts["batches"],
                    "done": progress.batches,
                    "taken": progress.done,
                    "left": progress.left,
                },
                seconds=self._seconds,
            )
        return self.name
