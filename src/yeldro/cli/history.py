"""What `yeldro history` does."""

from __future__ import annotations

from collections.abc import Iterable

from rich.console import RenderableType

from yeldro.cli.consent import check_terminal
from yeldro.cli.place import find_database, find_records_folder
from yeldro.cli.records import find_run, is_of, settle_all
from yeldro.cli.screen import Screen, confirm
from yeldro.core.model.plural import count
from yeldro.errors import Declined, Refused, UsageError
from yeldro.options import HistoryOptions
from yeldro.report.history import make_history, render_history, render_history_lines, render_run
from yeldro.report.json_text import Document
from yeldro.report.verdicts import make_verdicts, render_verdict_lines, render_verdicts
from yeldro.store.find_records import find_records, is_older
from yeldro.store.fingerprints import note_dropped, verify
from yeldro.store.run_record import RUNNING, RunRecord


def _find(options: HistoryOptions, screen: Screen) -> list[RunRecord]:
    """The record that was named, or all of the folder."""
    folder = find_records_folder(options.archive)
    if options.run:
        return [find_run(options, options.db, options.run)]
    found = find_records(folder, lambda reason: screen.note(f"Left out: {reason}"))
    if not options.db:
        return found
    place = find_database(options.db)
    return [record for record in found if is_of(record, place)]


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
    folder = find_records_folder(options.archive)
    chosen: set[str] | None = None
    if options.run:
        named = find_run(options, options.db, options.run)
        folder, chosen = named.folder.parent, {named.name}
    unread: list[str] = []
    # Each is judged by the one before it, so all are read.
    found = verify(find_records(folder, unread.append))
    found = [one for one in found if chosen is None or one.record.name in chosen]
    _write(
        screen,
        make_verdicts(found),
        render_verdict_lines(found),
        render_verdicts(found, folder),
    )
    for reason in unread:
        screen.note(reason)
    is_whole = not unread and not any(one.faults for one in found)
    return 0 if is_whole else Refused.status


def _write(
    screen: Screen, document: Document, lines: Iterable[str], shown: Iterable[RenderableType]
) -> None:
    """In the form that was asked for."""
    if screen.format == "json":
        screen.write_document(document)
    elif screen.format == "csv":
        for line in lines:
            screen.write_line(line)
        screen.end_lines()
    else:
        screen.show(shown)


def show_history(options: HistoryOptions) -> int:
    """Show past runs, and settle first what is in doubt."""
    screen = Screen(options.format)
    if options.older_than is not None:
        raise UsageError("--older-than goes with --drop.")
    records = _find(options, screen)
    for reason in settle_all(records, options.db, options.wait):
        screen.note(reason)
    folder = find_records_folder(options.archive)
    shown = render_run(records[0]) if options.run else render_history(records, folder)
    _write(screen, make_history(records), render_history_lines(records), shown)
    return 0
