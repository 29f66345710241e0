"""yeldro map"""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from yeldro.cli.complete import complete_table
from yeldro.cli.options import command_of, takes
from yeldro.options import MapOptions

if TYPE_CHECKING:
    from yeldro.core.database.connection import Database
    from yeldro.core.model.schema import Table


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
    from yeldro.usecases.draw_map import draw_map, draw_picture

    screen = Screen(options.format)
    with opened(
        find_database(options.db), Mode.READ, options.wait, options.allow_function
    ) as database:
        root = database.schema.find_table(options.table) if options.table else None
        chosen = is_selection(options)
        request = read_mapped_request(database, options) if root and chosen else None
        if options.draw:
            from yeldro.cli.drawing import draw_file

            draw_file(draw_picture(database, root, request), _title(database, root), options.draw)
            screen.note(f"Drawn: {options.draw}")
            if screen.format != "json":
                return
        found = draw_map(database, root, request)
        if screen.format == "json":
            screen.write_document(make_map(database.name, found))
        else:
            screen.show(render_map(database.title, found, root))


def _title(database: Database, root: Table | None) -> str:
    return f"{root.label} in {database.title} and what depends on it" if root else database.title
