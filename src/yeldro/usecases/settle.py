"""What became of a run, or of a restoration, that died before it could say so."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Sequence
from contextlib import contextmanager

from yeldro.core.database.connection import Database
from yeldro.core.model.key_set import StoredKeys
from yeldro.core.restore.traces import Traces, find_proving, find_traces
from yeldro.core.run.tally import add_tallies
from yeldro.errors import ArchiveFailed, BadStatement, Refused
from yeldro.store.archive_reader import ArchiveReader
from yeldro.store.archive_writer import ArchiveWriter
from yeldro.store.batch_file import BATCHES, BEGUN, COMMITTED, KEYS, UNDONE, BatchFacts, BatchFile
from yeldro.store.batch_file import IN_DOUBT as IN_DOUBT_ATTEMPT
from yeldro.store.fingerprints import find_own_faults, take_fingerprints
from yeldro.store.run_facts import GoneFacts, describe_tally, read_tally
from yeldro.store.run_record import IN_DOUBT, RunRecord, now
from yeldro.usecases.transaction import looking


def settle(database: Database, record: RunRecord) -> str:
    """Find out what became of a run, or of a restoration, that died before it could say so.

    What never came near its commit was rolled back. Else the database tells by the number of the
    transaction, where it knows it; else the rows are looked at: all of them gone, or all of them
    there as they were, tell it, and nothing else does. Returns why it stays in doubt, "" where it
    is settled.
    """
    # Nobody may go on with it, or settle it, meanwhile.
    try:
        record.hold()
    except ArchiveFailed as error:
        return f"{error.message[0].lower()}{error.message[1:].rstrip('.')}"
    try:
        return _settle(database, record)
    finally:
        record.close()


def _settle(database: Database, record: RunRecord) -> str:
    was = record.facts["outcome"]
    if IN_DOUBT not in (was, record.restored):
        return ""
    batches = was == IN_DOUBT and "batches" in record.facts
    reason = _settle_batches(database, record) if batches else _settle_run(database, record)
    if was == IN_DOUBT != record.facts["outcome"]:
        take_fingerprints(record)
    return reason


def _settle_run(database: Database, record: RunRecord) -> str:
    was = record.facts["outcome"]
    if was == IN_DOUBT and record.facts.get("final") is False:
        record.write(outcome="rolled-back", settled=now())
        was = "rolled-back"
    if IN_DOUBT not in (was, record.restored):
        return ""
    # A standby that lags behind would show rows that are long gone, or the other way round.
    if lag := database.find_lag():
        return f"this server cannot tell, because {lag}"
    # Looked up before the server is asked: an archive that cannot be read must end it either way.
    ending = database.find_ending(str(record.facts.get("transaction") or ""))
    try:
        traces = find_run_traces(database, record)
    except BadStatement:
        # Tables for copies that were made in the transaction went with it.
        if was != IN_DOUBT or ending is not False:
            raise
        record.write(outcome="rolled-back", settled=now())
        return ""
    if was == IN_DOUBT:
        committed = ending
        if committed is None:
            committed = traces.committed
        if committed is None:
            return _explain_doubt(traces)
        outcome = "committed" if committed else "rolled-back"
        gone = GoneFacts(rows=traces.left, of=traces.rows)
        record.write(outcome=outcome, gone=gone, settled=now())
    if record.restored != IN_DOUBT:
        return ""
    return _settle_restorations(database, record, traces.left, traces.rows)


def _explain_doubt(traces: Traces) -> str:
    """Somebody has changed the table since. A guess would be believed, so there is none."""
    if not traces.rows:
        return "without an archive nobody can tell"
    gone, rows = f"{traces.left:,}", f"{traces.rows:,}"
    others = traces.rows - traces.left - traces.whole
    if traces.cleared:
        return f"{gone} of its {rows} rows are as it cleared them, and the others not"
    if others:
        return (
            f"{gone} of its {rows} archived rows are gone from their tables, {traces.whole:,} are "
            f"there as they were, and in place of {others:,} there are others with the same keys"
        )
    return (
        f"{gone} of its {rows} archived rows are gone from their tables, and the others are there"
    )


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


def check_whole(record: RunRecord, *, even_if_altered: bool) -> None:
    """Refused where a record is not as its run left it, unless a person goes by it all the same.
    Then it is never vouched for again."""
    faults = find_own_faults(record)
    if faults and not even_if_altered:
        raise Refused(
            f"The record {record.name} is not as its run left it: {', '.join(faults)}.",
            "--even-if-altered goes by it all the same.",
        )
    record.is_whole = record.is_whole and not faults


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
    """What became of the attempts of a run that died of which nobody wrote it down."""
    journal = BatchFile(record.folder / BATCHES)
    copied, unfinished = _find_copied(record)
    known = {one["attempt"]: one for one in journal.read()}
    # The copy of an attempt whose line is lost must not be lost as well.
    unknown = [
        BatchFacts(attempt=step, batch=0, state=IN_DOUBT_ATTEMPT, at=now())
        for step in sorted(copied - known.keys())
    ]
    settled = (COMMITTED, UNDONE)
    open_ones = [one for one in known.values() if one["state"] not in settled]
    reasons: list[str] = []
    cut: set[int] = set()
    for one in [*open_ones, *unknown]:
        is_begun = one["state"] == BEGUN or one in unknown
        if is_begun and one["attempt"] in unfinished:
            state, reason = UNDONE, ""
        else:
            is_copied = one["attempt"] in copied
            state, reason = _settle_attempt(database, record, one, is_copied=is_copied)
        if state != one["state"] or one in unknown:
            journal.settle(one, state, reason)
        if reason:
            reasons.append(reason)
        elif state == UNDONE and one["attempt"] in copied:
            cut.add(one["attempt"])
    if reasons:
        return reasons[0]
    _close_batches(database, record, journal.committed(), cut)
    return ""


def _find_copied(record: RunRecord) -> tuple[set[int], set[int]]:
    """The attempts that the archive holds rows of, and those of which it never got all: nothing
    goes before its copy is whole."""
    if not record.facts["archive"] or not record.archive.exists():
        return set(), set()
    source = ArchiveReader(record.archive)
    try:
        return source.find_steps(), source.find_unfinished()
    finally:
        source.close()


def _settle_attempt(
    database: Database, record: RunRecord, one: BatchFacts, *, is_copied: bool
) -> tuple[str, str]:
    """What became of an attempt, and, where that stays in doubt, why."""
    if not is_copied and one["state"] == BEGUN:
        return UNDONE, ""  # its line is before its copy, and that before its first change
    if lag := database.find_lag():
        return IN_DOUBT_ATTEMPT, f"this server cannot tell, because {lag}"
    traces = _find_attempt_traces(database, record, one, is_copied=is_copied)
    was_sent = "last" in one  # as the line says that comes before a commit
    ending = database.find_ending(one.get("transaction", "")) if was_sent else None
    committed = traces.committed if ending is None else ending
    if committed and was_sent:
        return COMMITTED, ""
    # What is cut from an archive was seen in the tables, whole.
    if committed is False and (traces.committed is False or not is_copied):
        return UNDONE, ""
    return IN_DOUBT_ATTEMPT, _explain_attempt(traces)


def _explain_attempt(traces: Traces) -> str:
    others = traces.rows - traces.left - traces.whole
    there = f"{traces.whole:,} are there as they were"
    if others:
        there += f", and in place of {others:,} there are others with the same keys"
    return f"{traces.left:,} of the {traces.rows:,} rows of its last batch are gone, {there}"


def _find_attempt_traces(
    database: Database, record: RunRecord, one: BatchFacts, *, is_copied: bool
) -> Traces:
    """What shows of a batch: its rows, or, where there is no copy of them, their keys."""
    if is_copied:
        source = ArchiveReader(record.archive)
        try:
            return _find_traces(database, source, one["attempt"])
        finally:
            source.close()
    done = BatchFile(record.folder / BATCHES).committed()
    with numbered_keys(record, database) as (numbered, _):
        # Groups have no numbers of their own there, but all rows that were chosen are.
        by_groups = record.facts["batches"]["what"] == "group"
        if not by_groups:
            numbered = database.numbered.take(numbered, one["first"], one["last"])
        gone = database.find_missing(numbered, 0)[0]
    # Rows that no longer matched stay where they are.
    rows = one.get("matched", one["last"] - one["first"] + 1)
    if by_groups:
        gone = max(0, gone - sum(other.get("matched", 0) for other in done))
    return Traces(min(gone, rows), rows, whole=rows if not gone else 0)


@contextmanager
def numbered_keys(record: RunRecord, database: Database) -> Iterator[tuple[StoredKeys, int]]:
    """The keys of all rows that a run in batches chose, in the database again."""
    source = ArchiveReader(record.folder / KEYS)
    try:
        check_finished(source)
        (portion,) = source.portions(database.schema)
        if portion.table.label != record.facts["table"]:
            raise ArchiveFailed(
                f"{source.path} is damaged: it holds keys of {portion.table.label}, and the run "
                f"was of {record.facts['table']}."
            )
        yield database.numbered.number_staged(database.archive.stage(portion, source))
    finally:
        source.close()


def _close_batches(
    database: Database, record: RunRecord, committed: Sequence[BatchFacts], cut: Collection[int]
) -> None:
    """The archive holds what was committed, and the record says how far it is."""
    if record.facts["archive"] and record.archive.exists():
        writer = ArchiveWriter(record.archive, database.dialect, database.encoding, again=True)
        if cut:
            writer.cut(cut)
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
