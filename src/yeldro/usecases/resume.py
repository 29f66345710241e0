"""Go on with a run in batches that was stopped, or that died."""

from __future__ import annotations

from collections.abc import Sequence

from msgspec.structs import replace

from yeldro.core.database.connection import Database
from yeldro.core.model.fact import Fact
from yeldro.core.model.shape import find_shape_differences
from yeldro.core.run.outcome import Outcome, RunResult
from yeldro.core.run.preview import Preview
from yeldro.errors import Refused
from yeldro.store.run_facts import read_tally
from yeldro.store.run_record import IN_DOUBT, RUNNING, Keeping, RunRecord
from yeldro.store.shape_file import read_shape
from yeldro.usecases.answers import Answers
from yeldro.usecases.batches import BatchRun
from yeldro.usecases.one_transaction import Manner
from yeldro.usecases.schema_watch import make_fact
from yeldro.usecases.settle import check_whole, numbered_keys, settle
from yeldro.usecases.steps import BatchJob, Job, Merging
from yeldro.words.tell import tell


def check_resumable(
    database: Database, record: RunRecord, *, even_if_altered: bool = False
) -> None:
    """Settle what became of the last batch. Refused where there is nothing to go on with, or where
    somebody has changed the record."""
    if "batches" not in record.facts:
        raise Refused(f"The run {record.name} was not in batches, so all of it is done, or none.")
    if record.outcome == RUNNING:
        raise Refused(f"The run {record.name} is still under way.")
    if record.outcome == IN_DOUBT and (reason := settle(database, record)):
        raise Refused(f"The run {record.name} stays in doubt: {reason}.")
    if record.outcome == "committed":
        raise Refused(f"The run {record.name} is done: nothing of it is left.")
    if record.outcome == "rolled-back":
        raise Refused(f"Nothing of the run {record.name} was done.", "Run it anew.")
    check_whole(record, even_if_altered=even_if_altered)
    if record.restored:
        raise Refused(
            f"Rows of the run {record.name} were restored, so it does not go on.",
            "Run it anew.",
        )


class ResumedRun(BatchRun):
    """The rest of one run."""

    def __init__(
        self,
        database: Database,
        job: BatchJob,
        manner: Manner,
        answers: Answers,
        record: RunRecord,
        *,
        anew: bool = False,
    ) -> None:
        """`anew`: it goes on although the schema is another one now."""
        keeping = Keeping(
            record.folder.parent,
            bool(record.facts["archive"]),
            left_out=tuple(record.facts["left_out"]),
        )
        super().__init__(database, job, manner, answers, keeping)
        self.record = record
        self.anew = anew
        self.differences: Sequence[Fact] = ()

    def _look(self, job: Job, *, store: bool = False, shown: bool = True) -> Preview:
        found = super()._look(job, store=store, shown=shown)
        return replace(found, hints=(*found.hints, *self.differences))

    def _compare(self) -> None:
        """Refused where the schema is not the one that the run was shown, unless that is known."""
        shown, names = read_shape(self.record.folder), self.watch.names
        now = {name: self.watch.shown.get(name, {}) for name in {*names, *shown}}
        found = find_shape_differences(shown, now, sorted(now))
        schema = self.database.schema
        self.differences = [make_fact(one, schema, "since the run began") for one in found]
        if found and not self.anew:
            raise Refused(
                " ".join(map(tell, self.differences)),
                f"yeldro resume {self.record.name} --anew shows what is left as it is now, and "
                "goes on with it.",
            )

    def go(self) -> RunResult:
        done = self.batch_keeper.take_up(self.record)
        self._compare()
        if self.record.outcome != "stopped":
            raise Refused(f"The run {self.record.name} was taken up by somebody else meanwhile.")
        with numbered_keys(self.record, self.database) as (numbered, total):
            for one in done:
                self._add(read_tally(one["tally"], self.database.schema))
            last = done[-1]["last"] if done else 0
            rows = sum(one["rows"] for one in done)
            self._taken = sum(one.get("matched", one["rows"]) for one in done)
            self.progress = replace(
                self.progress, batches=len(done), done=last, total=total, rows=rows
            )
            by_groups = isinstance(self.job, Merging)
            first = 1 if by_groups else last + 1
            self.job.narrow(self.database.numbered.take(numbered, first, total))
            (shown,), ended = self.look_and_ask()
            is_empty = ended and ended.outcome is Outcome.NOTHING_MATCHED
            if ended and not is_empty:
                return ended
            self.batch_keeper.listen()
            self.batch_keeper.go_on(self.watch.expected if self.differences else None)
            if by_groups and not is_empty:
                # Of those that are done only the rows that stay are left, so they are none now.
                members = self.job.find_chosen(shown)
                numbered, groups = self.job.number(members, numbered.columns, last)
                self.progress = replace(self.progress, total=last + groups)
            # What is left went with others, or does not match any more.
            if is_empty:
                self.progress = replace(self.progress, done=total)
            return self.take_all(shown, numbered)
