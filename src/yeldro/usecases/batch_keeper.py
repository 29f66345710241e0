"""What of a run in batches is kept: one record and one archive, and a line for each batch."""

from __future__ import annotations

from contextlib import suppress
from typing import Any

from yeldro.core.database.archive_format import Portion
from yeldro.core.model.key_set import StoredKeys
from yeldro.core.run.batching import Progress
from yeldro.core.run.outcome import Outcome
from yeldro.core.run.preview import Preview
from yeldro.core.run.tally import Tally
from yeldro.errors import ArchiveFailed
from yeldro.store.archive_writer import ArchiveWriter
from yeldro.store.batch_file import (
    BATCHES,
    COMMITTED,
    COMMITTING,
    KEYS,
    ROLLED_BACK,
    BatchFacts,
    BatchFile,
)
from yeldro.store.run_facts import PaceFacts, describe_tally
from yeldro.store.run_record import IN_DOUBT, RunRecord, now
from yeldro.usecases.record_keeper import Keeper


class BatchKeeper(Keeper):
    """Keeps a run in batches. `batch` is the number of the last one that was begun, `done` that of
    the last one that was committed: what is kept of that, and of those before it, stays."""

    batch = 0
    done = 0

    def begin_all(self, found: Preview, facts: PaceFacts) -> None:
        """Begin the record, before the first batch."""
        if self.keeping:
            self._kept.append(found)
            self._record = self._begin(self.keeping)
            self._record.write(batches=facts)

    def take_up(self, record: RunRecord) -> list[BatchFacts]:
        """Hold the record of a run that was stopped, so that nobody else goes on with it. Returns
        the batches that were committed."""
        record.hold()
        self._record = record
        done = BatchFile(record.folder / BATCHES).committed()
        self.batch = self.done = done[-1]["batch"] if done else 0
        return done

    def go_on(self) -> None:
        """From here on what becomes of it is open again."""
        assert self._record
        record = self._record
        record.write(outcome=IN_DOUBT, ended=None, reason="")
        if record.facts["archive"] and record.archive.exists():
            dialect, encoding = self.database.dialect, self.database.encoding
            self._writer = ArchiveWriter(record.archive, dialect, encoding, again=True)

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
    def _lines(self) -> BatchFile | None:
        return BatchFile(self._record.folder / BATCHES) if self._record else None

    @property
    def copies(self) -> bool:
        """Whether rows are archived before they go."""
        return bool(self._record and self.keeping and self.keeping.archive)

    def keep(self, found: Preview) -> None:
        """Archive what a batch touches: synced when this returns."""
        self.batch += 1
        if self._record and self.copies:
            self._archive(self._record, found.reach, self.batch)

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
        if self._lines:
            line = {"batch": self.batch, "state": state, "at": now(), **facts}
            self._lines.add(BatchFacts(**line))  # type: ignore[typeddict-item]

    def batch_committed(self, **facts: Any) -> None:
        """Where that cannot be written down, the run ends in doubt, and what the database knows
        settles it: a later batch must not take the number of this one."""
        self._add(COMMITTED, **facts)
        self.life.is_final, self.done = False, self.batch

    def batch_rolled_back(self) -> None:
        """Its rows are where they were, so their copy goes. What may have been committed stays."""
        if self.life.is_final or self.batch == self.done:
            return
        if self._writer:
            self._writer.cut_back(self.done)
        if self._lines and any(one["batch"] == self.batch for one in self._lines.read()):
            self._add(ROLLED_BACK)

    def rolled_back(self, reason: str, tally: Tally | None = None) -> str:
        """Of a run that goes on, what its earlier batches left stays."""
        return self.name if self.done else super().rolled_back(reason, tally)

    def drop(self) -> None:
        if not self.done:
            super().drop()

    def end_all(
        self, outcome: Outcome, progress: Progress, tally: Tally | None, reason: str = ""
    ) -> str:
        """The last word of the record. Returns its name."""
        self.database.record(None)
        if not self._record:
            return ""
        if not progress.batches:
            self._record.drop_archive()
        elif self._writer:
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
