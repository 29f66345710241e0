"""yeldro dedupe"""

from __future__ import annotations

import click

from yeldro.cli.complete import complete_table
from yeldro.cli.options import command_of, takes
from yeldro.options import DedupeOptions


@command_of("dedupe", DedupeOptions)
@click.argument("table", shell_complete=complete_table)
@takes(DedupeOptions)
def command(options: DedupeOptions) -> int:
    """Remove the surplus rows of groups of TABLE that are the same; what depends on them moves to
    the kept row.

    Shows the groups and what would happen, asks, keeps an exact copy of every row that goes or
    changes, compares every count, and commits only if all is as expected.
    """
    from yeldro.cli.deletion import run_dedupe

    return run_dedupe(options)
