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
from yeldro.usecases.settle import check_finished, check_whole, find_run_traces, settle


def restore(
    database: Database, record: RunRecord, request: RestoreRequest, answers: RestoreAnswers
) -> RunResult:
    """Put the archived rows of a run back, parents first, in one transaction."""
    _check(database, record, request)
    is_settled = record.outcome != IN_DOUBT
    # Nobody goes on with it, or restores it, meanwhile.
    try:
        record.hold()
    except ArchiveFailed:
        raise Refused(f"The run {record.name} is under way.") from None
    try:
        check_whole(record, even_if_altered=request.even_if_altered)
        return _restore(database, record, request, answers, is_settled=is_settled)
    finally:
        record.close()


def _restore(
    database: Database,
    record: RunRecord,
    request: RestoreRequest,
    answers: RestoreAnswers,
    *,
    is_settled: bool,
) -> RunResult:
    undone = record.facts["outcome"] == "rolled-back"
    gone = 0
    if undone and record.archive.exists() and not request.into:
        # One that was never finished is no copy of rows that are gone.
        with suppress(ArchiveFailed):
            gone = find_run_traces(database, record).left
    if record.facts["outcome"] == "stopped" and not record.facts["tally"]:
        reason = "It was stopped before its first batch."
        return RunResult(Outcome.NOTHING_TO_RESTORE, reason=reason, run=record.name)
    if undone and not gone:
        return RunResult(
            Outcome.NOTHING_TO_RESTORE, reason="The run was rolled back.", run=record.name
        )
    source = ArchiveReader(record.archive)
    try:
        if is_settled:
            check_finished(source)
        kind = BatchRestoration if request.pace else Restoration
        return kind(database, record, source, request, answers, gone if undone else 0).go()
    finally:
        source.close()


def _check(database: Database, record: RunRecord, request: RestoreRequest) -> None:
    """Refused, or UsageError, where nothing can be restored from it."""
    in_doubt = not request.into and IN_DOUBT in (record.outcome, record.restored)
    reason = settle(database, record) if in_doubt else ""
    if record.outcome == RUNNING:
        raise Refused(f"The run {record.name} is still under way.")
    if reason and not request.even_if_altered:
        raise Refused(
            f"The run {record.name} stays in doubt: {reason}.",
            "--even-if-altered puts back what of its copy is not there.",
        )
    if not record.facts["archive"]:
        raise Refused(f"The run {record.name} kept no archive, so nothing of it can be restored.")
    if record.facts["engine"] != database.dialect:
        raise UsageError("A run can only be restored into a database of the same engine.")
