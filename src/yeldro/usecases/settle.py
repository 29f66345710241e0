"""What became of a run, or of a restoration, that died before it could say so."""

from __future__ import annotations

from yeldro.core.database.connection import Database
from yeldro.core.restore.traces import Traces, find_proving, find_traces
from yeldro.errors import ArchiveFailed
from yeldro.store.archive_reader import ArchiveReader
from yeldro.store.run_record import IN_DOUBT, RunRecord, now
from yeldro.usecases.transaction import looking


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
    # A standby that lags behind would show rows that are long gone, or the other way round.
    if lag := database.find_lag():
        return f"this server cannot tell, because {lag}"
    # Looked up before the server is asked: an archive that cannot be read must end it either way.
    traces = find_run_traces(database, record)
    gone, rows = traces.left, traces.rows
    if record.outcome == IN_DOUBT:
        ending = database.find_ending(str(record.facts.get("transaction") or ""))
        if ending is None and not rows:
            return "without an archive nobody can tell"
        # Somebody has changed the table since. A guess would be believed, so there is none.
        if ending is None and 0 < gone < rows:
            if traces.cleared:
                return f"{gone:,} of its {rows:,} rows are as it cleared them, and the others not"
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
                f"{gone:,} of {rows:,} archived rows are gone, or clear, of which a restore was to "
                "bring back some"
            )
        committed = ending if ending is not None else gone <= one["gone_after"]
        settled.append({**one, "outcome": "committed" if committed else "rolled-back"})
    record.write(restored=settled)
    return ""


def check_finished(source: ArchiveReader) -> None:
    if not source.is_complete:
        raise ArchiveFailed(f"The archive {source.path} is damaged: it was never finished.")


def find_run_traces(database: Database, record: RunRecord) -> Traces:
    """What of a run shows in its tables, as far as its archive tells. ArchiveFailed where what was
    kept cannot be read."""
    if not record.facts["archive"]:
        return Traces(0, 0)
    source = ArchiveReader(record.archive)
    try:
        check_finished(source)
        portions = find_proving(source.portions(database.schema))
        stages = [database.archive.stage(portion, source) for portion in portions]
        with looking(database):
            return find_traces([(one.portion, database.archive.stand(one)) for one in stages])
    finally:
        source.close()
