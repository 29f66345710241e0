"""yeldro preview"""

from __future__ import annotations

from typing import Any

import click

from yeldro import workflow
from yeldro.cli.options import (
    database_options,
    find_database,
    make_delete_line,
    opened,
    read_request,
    selection_options,
)
from yeldro.cli.screen import Screen
from yeldro.core.database import Mode
from yeldro.core.preview import Preview
from yeldro.errors import Refused
from yeldro.report.documents import make_preview
from yeldro.report.preview import render_preview
from yeldro.report.spreadsheet import render_line


@click.command("preview")
@selection_options()
@database_options("json", "csv")
def command(**options: Any) -> int:
    """Which rows of TABLE match, what hangs on them, and what would happen to each. Changes nothing.

    With --format csv all matched rows are written. Ends with status 3 where the deletion would be stopped.
    """
    screen = Screen(options["format"])
    with opened(find_database(options["db"]), Mode.READ, options["wait"]) as database:
        request = read_request(database, options)
        if screen.format == "csv":
            with workflow.matched_rows(database, request) as (found, columns, rows):
                screen.write_line(render_line(columns))
                for row in rows:
                    screen.write_line(render_line(row))
        else:
            found = workflow.preview(database, request)
            _show(screen, found, options)
    return Refused.status if found.refusals else 0


def _show(screen: Screen, found: Preview, options: dict[str, Any]) -> None:
    if screen.format == "json":
        screen.write_document(make_preview(found))
        return
    screen.show(render_preview(found, screen.width, make_delete_line(options, found.reach.matched)))
    for reason in found.refusals[:1]:
        screen.note(f"\nWould be stopped: {reason}")
