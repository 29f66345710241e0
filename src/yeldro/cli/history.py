"""What `yeldro history` does."""

from __future__ import annotations

from yeldro.cli.consent import check_terminal
from yeldro.cli.place import find_records_folder, list_records_folders
from yeldro.cli.records import settle_all
from yeldro.cli.screen import Screen, confirm
from yeldro.core.model.plural import count
from yeldro.errors import Declined, Refused, UsageError
from yeldro.options import HistoryOptions
from yeldro.report.history import make_history, render_history, render_history_lines, render_run
from yeldro.report.verdicts import make_verdicts, render_verdict_lines, render_verdicts
from yeldro.store.find_records import find_record_in, find_records, is_older
from yeldro.store.fingerprints import note_dropped, verify
from yeldro.store.run_record import RUNNING, RunRecord


def _find(options: HistoryOptions, screen: Screen) -> list[RunRecord]:
    """The record that was named, or all of the folder."""
    folder = find_records_folder(options.archive)
    if options.run:
        return [find_record_in(list_records_folders(options.archive, options.db), options.run)]
    return find_records(folder, lambda reason: screen.note(f"Left out: {reason}"))


def drop_records(options: HistoryOptions) -> int:
    """Delete the record that was named, or those that are older than so many days."""
    screen = Screen(options.format)
    days = options.older_than
    if (options.run is None) == (days is None):
        raise UsageError("--drop needs a RUN, or --older-than DAYS.")
    records = _find(options, screen)
    doomed = [record for record in records if days is None or is_older(record, days)]
    if any(record.outcome == RUNNING for record in doomed):
        raise UsageError("A run is still under way.")
    if doomed and not options.yes:
        check_terminal("Give --yes to drop without a question.")
        archived = sum(record.size > 0 for record in doomed)
        what = f"{count(len(doomed), 'record')}, {archived:,} of them with an archive"
        if not confirm(f"Drop {what}? It cannot be undone."):
            raise Declined("Declined; nothing was dropped.")
    for record in doomed:
        note_dropped(record)
        record.drop()
    screen.note(f"Dropped {count(len(doomed), 'record')}.")
    return 0


def verify_records(options: HistoryOptions) -> int:
    """Compare all records, or the one that was named, with their fingerprints."""
    screen = Screen(options.format)
    if options.older_than is not None or options.yes:
        raise UsageError("--verify changes nothing: it excludes --older-than and --yes.")
    chosen = _find(options, screen)
    # Each is judged by the one before it, so all are read.
    folder = chosen[0].folder.parent if chosen else find_records_folder(options.archive)
    names = {record.name for record in chosen}
    found = [one for one in verify(find_records(folder)) if one.record.name in names]
    if screen.format == "json":
        screen.write_document(make_verdicts(found))
    elif screen.format == "csv":
        for line in render_verdict_lines(found):
            screen.write_line(line)
        screen.end_lines()
    else:
        screen.show(render_verdicts(found, folder))
    return Refused.status if any(one.faults for one in found) else 0


def show_history(options: HistoryOptions) -> int:
    """Show past runs, and settle first what is in doubt."""
    screen = Screen(options.format)
    if options.older_than is not None:
        raise UsageError("--older-than goes with --drop.")
    records = _find(options, screen)
    for reason in settle_all(records, options.db, options.wait):
        screen.note(reason)
    if screen.format == "json":
        screen.write_document(make_history(records))
    elif screen.format == "csv":
        for line in render_history_lines(records):
            screen.write_line(line)
        screen.end_lines()
    else:
        folder = find_records_folder(options.archive)
        screen.show(render_run(records[0]) if options.run else render_history(records, folder))
    return 0
