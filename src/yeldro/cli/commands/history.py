"""yeldro history"""

from __future__ import annotations

import click

from yeldro.cli.options import command_of, takes
from yeldro.options import HistoryOptions


@command_of("history", HistoryOptions)
@click.argument("run", required=False)
@takes(HistoryOptions)
def command(options: HistoryOptions) -> int:
    """Past runs: when, what, where, by whom, with which outcome, and whether they were restored.

    With RUN the whole account of one. A run that died is settled by looking its rows up in the
    database.
    """
    from yeldro.cli.consent import check_terminal
    from yeldro.cli.place import find_records_folder
    from yeldro.cli.records import settle_all
    from yeldro.cli.screen import Screen, confirm
    from yeldro.core.model.plural import count
    from yeldro.errors import Declined, UsageError
    from yeldro.report.history import (
        make_history,
        render_history,
        render_history_lines,
        render_run,
    )
    from yeldro.store.find_records import find_record, find_records, is_older
    from yeldro.store.run_record import RUNNING

    screen = Screen(options.format)
    folder = find_records_folder(options.archive)
    name, days = options.run, options.older_than
    unread: list[str] = []
    records = [find_record(folder, name)] if name else find_records(folder, unread.append)
    for reason in unread:
        screen.note(f"Left out: {reason}")
    if options.drop:
        if (name is None) == (days is None):
            raise UsageError("--drop needs a RUN, or --older-than DAYS.")
        doomed = [record for record in records if days is None or is_older(record, days)]
        if any(record.outcome == RUNNING for record in doomed):
            raise UsageError("A run is still under way.")
        if doomed and not options.yes:
            check_terminal("Give --yes to drop without a question.")
            archived = sum(record.size > 0 for record in doomed)
            what = (
                f"Drop {count(len(doomed), 'record')}, {archived:,} of them with an archive? It "
                "cannot be undone."
            )
            if not confirm(what):
                raise Declined("Declined; nothing was dropped.")
        for record in doomed:
            record.drop()
        screen.note(f"Dropped {count(len(doomed), 'record')}.")
        return 0
    if days is not None:
        raise UsageError("--older-than goes with --drop.")
    for reason in settle_all(records, options.db, options.wait):
        screen.note(reason)
    if screen.format == "json":
        screen.write_document(make_history(records))
    elif screen.format == "csv":
        for line in render_history_lines(records):
            screen.write_line(line)
        screen.end_lines()
    else:
        screen.show(render_run(records[0]) if name else render_history(records))
    return 0
