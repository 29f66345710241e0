"""yeldro survey"""

from __future__ import annotations

import click

from yeldro.cli.complete import complete_table
from yeldro.cli.options import command_of, takes
from yeldro.options import SurveyOptions


@command_of("survey", SurveyOptions)
@click.argument("tables", nargs=-1, shell_complete=complete_table)
@takes(SurveyOptions)
def command(options: SurveyOptions) -> None:
    """What is in the database: tables, keys, references, triggers.

    With TABLES: a close look at each, with what its columns hold, a few rows, and what is unique in
    the data. Several at once are named by a pattern such as 'dept*', or by their schema: works.
    Changes nothing.
    """
    from yeldro.cli.connect import opened
    from yeldro.cli.place import find_database
    from yeldro.cli.screen import Screen
    from yeldro.core.database.abilities import Mode
    from yeldro.errors import UsageError
    from yeldro.usecases import survey as workflow

    screen = Screen(options.format)
    if options.findings and options.holding is not None:
        raise UsageError("--findings excludes --holding.")
    with opened(find_database(options.db), Mode.READ, options.wait) as database:
        if options.findings or options.holding is not None:
            from yeldro.cli.search import show_search

            return show_search(database, options, screen)
        found = workflow.survey(database, options.tables)
        if options.by_size:
            found.sort(key=lambda one: -(one.rows or 0))
        if options.format == "json":
            from yeldro.report.documents import make_survey

            screen.write_document(make_survey(database.name, found))
        else:
            from yeldro.report.survey import render_survey

            height = None if options.whole else screen.height
            screen.show(render_survey(database.title, found, height))
    return None
