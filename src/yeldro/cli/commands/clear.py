"""yeldro clear"""

from __future__ import annotations

import click

from yeldro.cli.complete import complete_table
from yeldro.cli.options import command_of, takes
from yeldro.options import ClearOptions


@command_of("clear", ClearOptions)
@click.argument("table", shell_complete=complete_table)
@takes(ClearOptions)
def command(options: ClearOptions) -> int:
    """Keep the chosen rows of TABLE, and remove what they hold in --columns.

    Shows the preview, asks, keeps an exact copy, clears, compares every count, and commits only if
    all is as expected. Rows that point at what is cleared follow ON UPDATE, or block it. yeldro
    preview TABLE --clear COLS only looks.
    """
    from yeldro.cli.deletion import run_clearing

    return run_clearing(options)
