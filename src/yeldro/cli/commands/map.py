"""yeldro map"""

from __future__ import annotations

import click

from yeldro.cli.complete import complete_table
from yeldro.cli.options import command_of, takes
from yeldro.options import MapOptions


@command_of("map", MapOptions)
@click.argument("table", required=False, shell_complete=complete_table)
@takes(MapOptions)
def command(options: MapOptions) -> None:
    """The tables in deletion order, and what references what.

    With TABLE: only what depends on it. With a selection too: how many rows of each table it would
    touch.
    """
    from yeldro.cli.connect import opened
    from yeldro.cli.place import find_database
    from yeldro.cli.request import is_selection, read_mapped_request
    from yeldro.cli.screen import Screen
    from yeldro.core.database.abilities import Mode
    from yeldro.report.documents import make_map
    from yeldro.report.map import render_map
    from yeldro.usecases.draw_map import draw_map

    screen = Screen(options.format)
    with opened(
        find_database(options.db), Mode.READ, options.wait, options.allow_function
    ) as database:
        root = database.schema.find_table(options.table) if options.table else None
        chosen = is_selection(options)
        found = draw_map(
            database, root, read_mapped_request(database, options) if root and chosen else None
        )
        if screen.format == "json":
            screen.write_document(make_map(database.name, found))
        else:
            screen.show(render_map(database.title, found, root))
