"""yeldro preview"""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from yeldro.cli.complete import complete_table
from yeldro.cli.options import command_of, takes
from yeldro.options import PreviewOptions

if TYPE_CHECKING:
    from yeldro.core.database.connection import Database
    from yeldro.core.run.preview import Preview


@command_of("preview", PreviewOptions)
@click.argument("table", shell_complete=complete_table)
@takes(PreviewOptions)
def command(options: PreviewOptions) -> int:
    """Which rows of TABLE match, what depends on them, and what would happen to each. Changes
    nothing.

    With --format csv all matched rows are written. Ends with status 3 where the deletion would be
    stopped. In place of TABLE a cleanup file may stand, FILE.toml: each of its steps is shown as
    the data is now; with --seal it is sealed.
    """
    from msgspec.structs import replace

    from yeldro.cli.connect import opened
    from yeldro.cli.lifting import find_next
    from yeldro.cli.place import find_database
    from yeldro.cli.request import as_previewed, read_request
    from yeldro.cli.screen import Screen
    from yeldro.core.database.abilities import Mode
    from yeldro.core.selection.selection import read_selection
    from yeldro.errors import Refused
    from yeldro.report.preview import render_preview
    from yeldro.report.spreadsheet import render_line
    from yeldro.usecases import look as workflow
    from yeldro.words.tell import tell, voice_of

    if options.table.endswith(".toml"):
        _check_file(options)
        from yeldro.cli.preview_cleanup import preview_cleanup

        return preview_cleanup(options)
    if options.seal or options.save:
        from yeldro.cli.saving import check_seal, save_cleanup

        check_seal(options)
    screen = Screen(options.format)
    if options.forecast:
        from yeldro.cli.forecast import preview_with_forecast

        return preview_with_forecast(options, screen)
    with opened(
        find_database(options.db), Mode.READ, options.wait, options.allow_function
    ) as database:
        asked = as_previewed(options)
        request = read_request(database, asked)
        request = replace(request, by_time=options.by_time or "")
        if options.save:
            save_cleanup(
                asked, read_selection(request.asked, database.schema, database.dialect), database
            )
        if screen.format == "csv":
            with workflow.matched_rows(database, request) as (found, columns, rows):
                screen.write_line(render_line(columns))
                for row in rows:
                    screen.write_line(render_line(row))
                screen.end_lines()
            _write_misses(database, options, found)
        else:
            found = workflow.preview(database, request)
            # Before anything is shown: nobody may read that to its end.
            _write_misses(database, options, found)
            if screen.format == "json":
                from yeldro.report.documents import make_preview

                screen.write_document(make_preview(found))
            else:
                screen.show(render_preview(found, find_next(database, options, found)))
        # A document says it by itself; rows of CSV, and a long preview, need it at their end.
        for reason in found.refusals[:1] if screen.format != "json" else ():
            screen.note(f"\nWould be stopped: {tell(reason, voice_of(found))}")
    return Refused.status if found.refusals else 0


def _check_file(options: PreviewOptions) -> None:
    """UsageError for what a cleanup file cannot be asked."""
    from yeldro.errors import UsageError

    for flag, given in (("--forecast", options.forecast), ("--by-time", options.by_time)):
        if given:
            raise UsageError(f"{flag} goes with a table: it excludes a cleanup file.")


def _write_misses(database: Database, options: PreviewOptions, found: Preview) -> None:
    if options.misses:
        from yeldro.cli.misses import write_misses

        write_misses(database, found.selection, options.misses)
