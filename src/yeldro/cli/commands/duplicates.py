"""yeldro duplicates"""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from yeldro.cli.complete import complete_table
from yeldro.cli.options import command_of, takes
from yeldro.options import DuplicatesOptions

if TYPE_CHECKING:
    from yeldro.cli.screen import Screen
    from yeldro.core.database.connection import Database
    from yeldro.core.duplicates.request import DuplicatesRequest


@command_of("duplicates", DuplicatesOptions)
@click.argument("table", shell_complete=complete_table)
@takes(DuplicatesOptions)
def command(options: DuplicatesOptions) -> int:
    """Groups of rows of TABLE that are the same: which row would stay, where they differ, and what
    depends on each.

    Changes nothing. Without --keep it shows what each rule would decide. Without --same, columns
    that are almost unique are proposed.
    """
    from yeldro.cli.connect import opened
    from yeldro.cli.lifting import find_removal
    from yeldro.cli.place import find_database
    from yeldro.cli.request import read_duplicates_request
    from yeldro.cli.saving import check_seal, save_cleanup
    from yeldro.cli.screen import Screen
    from yeldro.core.database.abilities import Mode
    from yeldro.core.run.preview import find_group_cautions
    from yeldro.errors import Refused
    from yeldro.report import duplicates as report
    from yeldro.report.cautions import render_cautions
    from yeldro.usecases import duplicates as workflow
    from yeldro.words.tell import tell, voice_of

    check_seal(options)
    screen = Screen(options.format)
    if options.forecast:
        from yeldro.cli.forecast import duplicates_with_forecast

        return duplicates_with_forecast(options, screen)
    with opened(
        find_database(options.db), Mode.READ, options.wait, options.allow_function
    ) as database:
        if options.same is None:
            return _propose(database, options.table, screen)
        request = read_duplicates_request(database, options)
        if options.save:
            save_cleanup(options, request.grouping.selection, database)
        if screen.format == "csv":
            return _write_rows(database, request, screen)
        if options.decisions:
            from yeldro.cli.decisions import write_decisions

            write_decisions(database, request, options.decisions)
            return 0
        preview = workflow.merging(database, request) if request.grouping.is_decided else None
        found = preview.duplicates if preview else workflow.duplicates(database, request)
        assert found
    if screen.format == "json":
        screen.write_document(report.make_duplicates(found, preview))
    elif preview:
        following = None if options.expect else find_removal(options, preview)
        screen.show(report.render_merging(preview, following))
    else:
        screen.show(report.render_duplicates(found))
        screen.show(render_cautions(list(find_group_cautions(found))))
    if preview and preview.refusals:
        screen.tell(tell(preview.refusals[0], voice_of(preview)), "")
        return Refused.status
    return 0


def _propose(database: Database, name: str, screen: Screen) -> int:
    """Columns that were probably meant to be unique."""
    from yeldro.report.duplicates import make_proposals, render_proposals
    from yeldro.usecases.duplicates import proposals

    table = database.schema.find_table(name)
    proposed = proposals(database, table)
    if screen.format == "json":
        screen.write_document(make_proposals(table, proposed))
    else:
        screen.show(render_proposals(table, proposed))
    return 0


def _write_rows(database: Database, request: DuplicatesRequest, screen: Screen) -> int:
    """All rows of all groups as CSV."""
    from yeldro.report.spreadsheet import render_line
    from yeldro.usecases.duplicates import duplicate_rows

    with duplicate_rows(database, request) as rows:
        screen.write_line(render_line(["group", "verdict", *request.table.column_names]))
        for group, place, *cells in rows:
            screen.write_line(render_line([group, "stays" if place == 1 else "goes", *cells]))
        screen.end_lines()
    return 0
