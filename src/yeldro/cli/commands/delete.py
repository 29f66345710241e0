"""yeldro delete"""

from __future__ import annotations

import click

from yeldro.cli.complete import complete_table
from yeldro.cli.options import command_of, takes
from yeldro.options import DeletionOptions


@command_of("delete", DeletionOptions)
@click.argument("table", shell_complete=complete_table)
@takes(DeletionOptions)
def command(options: DeletionOptions) -> int:
    """Delete the chosen rows of TABLE and what depends on them, children first, in one transaction.

    Shows the preview, asks, keeps an exact copy, deletes, compares every count, and commits only if
    all is as expected.
    """
    from yeldro.cli.deletion import run_deletion

    return run_deletion(options)
