"""What became of a run, or of a restoration, that died before it could say so."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import contextmanager

from yeldro.core.database.connection import Database
from yeldro.core.model.key_set import StoredKeys
from yeldro.core.restore.traces import Traces, find_proving, find_traces
from yeldro.core.run.tally import add_tallies
from yeldro.errors import ArchiveFailed
from yeldro.store.archive_reader import ArchiveReader
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
from yeldro.store.fingerprints import take_fingerprints
from yeldro.store.run_facts import describe_tally, read_tally
from yeldro.store.run_record import IN_DOUBT, RunRecord, now
from yeldro.usecases.transaction import looking


def settle(database: Database, record: RunRecord) -> str:
    """Find out what became of a run, or of a restoration, that died before it could say so.

    What never came near its commit was rolled back. Else the database tells by the number of the
    transaction, where it knows it; else the keys are looked up. Returns why it stays in doubt, ""
    where it is settled.
    """
    was = record.outcome
    batches = was == IN_DOUBT and "batches" in record.facts
    reason = _settle_batches(database, record) if batches else _settle_run(database, record)
    if was == IN_DOUBT != record.outcome:
        take_fingerprints(record)
    return reason


def _settle_run(database: Database, record: RunRecord) -> str:
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
        return _find_traces(database, source)
    finally:
        source.close()


def _find_traces(database: Database, source: ArchiveReader, step: int | None = None) -> Traces:
    """The same of one step alone, where one is named."""
    portions = find_proving(source.portions(database.schema))
    portions = [one for one in portions if step in (None, one.step)]
    stages = [database.archive.stage(portion, source) for portion in portions]
    with looking(database):
        return find_traces([(one.portion, database.archive.stand(one)) for one in stages])


def _settle_batches(database: Database, record: RunRecord) -> str:
    """What became of the last batch of a run that died. Those before it were committed."""
    file = BatchFile(record.folder / BATCHES)
    last = file.read()[-1:]
    if last and last[0]["state"] == COMMITTING:
        if lag := database.find_lag():
            return f"this server cannot tell, because {lag}"
        committed = database.find_ending(last[0].get("transaction", ""))
        if committed is None:
            gone, rows = _find_gone(database, record, last[0])
            if 0 < gone < rows:
                return (
                    f"{gone:,} of the {rows:,} rows of its last batch are gone, and the others are "
                    "there"
                )
            committed = bool(gone)
        state = COMMITTED if committed else ROLLED_BACK
        file.add({"batch": last[0]["batch"], "state": state, "at": now()})
    _close_batches(database, record, file.committed())
    return ""


def _find_gone(database: Database, record: RunRecord, batch: BatchFacts) -> tuple[int, int]:
    """How many rows of a batch are gone, and how many they were."""
    if record.facts["archive"]:
        source = ArchiveReader(record.archive)
        try:
            traces = _find_traces(database, source, batch["batch"])
        finally:
            source.close()
        return traces.left, traces.rows
    with numbered_keys(record, database) as (numbered, _):
        listed = database.numbered.take(numbered, batch["first"], batch["last"])
        rows = batch["last"] - batch["first"] + 1
        return database.find_missing(listed, 0)[0], rows


@contextmanager
def numbered_keys(record: RunRecord, database: Database) -> Iterator[tuple[StoredKeys, int]]:
    """The keys of all rows that a run in batches chose, in the database again."""
    source = ArchiveReader(record.folder / KEYS)
    try:
        check_finished(source)
        (portion,) = source.portions(database.schema)
        yield database.numbered.number_staged(database.archive.stage(portion, source))
    finally:
        source.close()


def _close_batches(database: Database, record: RunRecord, committed: Sequence[BatchFacts]) -> None:
    """The archive holds what was committed, and the record says how far it is."""
    if record.facts["archive"] and record.archive.exists():
        writer = ArchiveWriter(record.archive, database.dialect, database.encoding, again=True)
        writer.cut_back(committed[-1]["batch"] if committed else 0)
        writer.complete()
    tallies = [read_tally(one["tally"], database.schema) for one in committed]
    facts = record.facts["batches"]
    facts |= {"done": len(committed), "taken": committed[-1]["last"] if committed else 0}
    record.write(
        outcome="stopped" if committed else "rolled-back",
        batches=facts,
        tally=describe_tally(add_tallies(tallies)) if tallies else [],
        settled=now(),
    )
