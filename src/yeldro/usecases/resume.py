"""Go on with a run in batches that was stopped, or that died."""

from __future__ import annotations

from msgspec.structs import replace

from yeldro.core.database.connection import Database
from yeldro.core.run.outcome import Outcome, RunResult
from yeldro.errors import Refused
from yeldro.store.run_facts import read_tally
from yeldro.store.run_record import IN_DOUBT, RUNNING, Keeping, RunRecord
from yeldro.usecases.answers import Answers
from yeldro.usecases.batches import BatchRun
from yeldro.usecases.one_transaction import Manner
from yeldro.usecases.settle import numbered_keys, settle
from yeldro.usecases.steps import BatchJob, Merging


def check_resumable(database: Database, record: RunRecord) -> None:
    """Settle what became of the last batch. Refused where there is nothing to go on with."""
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
    ) -> None:
        keeping = Keeping(
            record.folder.parent,
            bool(record.facts["archive"]),
            left_out=tuple(record.facts["left_out"]),
        )
        super().__init__(database, job, manner, answers, keeping)
        self.record = record

    def go(self) -> RunResult:
        done = self.batch_keeper.take_up(self.record)
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
            self.batch_keeper.go_on()
            if by_groups and not is_empty:
                # Of those that are done only the rows that stay are left, so they are none now.
                members = self.job.find_chosen(shown)
                numbered, groups = self.job.number(members, numbered.columns, last)
                self.progress = replace(self.progress, total=last + groups)
            # What is left went with others, or does not match any more.
            if is_empty:
                self.progress = replace(self.progress, done=total)
            return self.take_all(shown, numbered)
