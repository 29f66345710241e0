"""Restore a run, whatever became of it."""

from __future__ import annotations

from contextlib import suppress

from yeldro.core.database.connection import Database
from yeldro.core.run.outcome import Outcome, RunResult
from yeldro.errors import ArchiveFailed, Refused, UsageError
from yeldro.store.archive_reader import ArchiveReader
from yeldro.store.run_record import IN_DOUBT, RUNNING, RunRecord
from yeldro.usecases.restoration import Restoration, RestoreAnswers
from yeldro.usecases.restoration import RestoreRequest as RestoreRequest
from yeldro.usecases.restore_batches import BatchRestoration
from yeldro.usecases.settle import check_finished, find_run_traces, settle


def restore(
    database: Database, record: RunRecord, request: RestoreRequest, answers: RestoreAnswers
) -> RunResult:
    """Put the archived rows of a run back, parents first, in one transaction."""
    _check(database, record, request)
    undone = record.outcome == "rolled-back"
    gone = 0
    if undone and record.archive.exists() and not request.into:
        # One that was never finished is no copy of rows that are gone.
        with suppress(ArchiveFailed):
            gone = find_run_traces(database, record).left
    if record.outcome == "stopped" and not record.facts["tally"]:
        reason = "It was stopped before its first batch."
        return RunResult(Outcome.NOTHING_TO_RESTORE, reason=reason, run=record.name)
    if undone and not gone:
        return RunResult(
            Outcome.NOTHING_TO_RESTORE, reason="The run was rolled back.", run=record.name
        )
    source = ArchiveReader(record.archive)
    try:
        check_finished(source)
        kind = BatchRestoration if request.pace else Restoration
        return kind(database, record, source, request, answers, gone if undone else 0).go()
    finally:
        source.close()


def _check(database: Database, record: RunRecord, request: RestoreRequest) -> None:
    """Refused, or UsageError, where nothing can be restored from it."""
    in_doubt = not request.into and IN_DOUBT in (record.outcome, record.restored)
    if in_doubt and (reason := settle(database, record)):
        raise Refused(f"The run {record.name} stays in doubt: {reason}.")
    if record.outcome == RUNNING:
        raise Refused(f"The run {record.name} is still under way.")
    if not record.facts["archive"]:
        raise Refused(f"The run {record.name} kept no archive, so nothing of it can be restored.")
    if record.facts["engine"] != database.dialect:
        raise UsageError("A run can only be restored into a database of the same engine.")
