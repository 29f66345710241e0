"""yeldro dedupe"""

from __future__ import annotations

from typing import Any

import click

from yeldro.cli.options import database_options, duplicates_options, run_options, save_options


@click.command("dedupe")
@duplicates_options(guards=False)
@run_options()
@save_options()
@database_options("json")
def command(**options: Any) -> int:
    """Remove the surplus rows of groups of TABLE that are the same; what hangs on them moves to the kept row.

    Shows the groups and what would happen, asks, keeps an exact copy of every row that goes or changes, compares every
    count, and commits only if all is as expected.
    """
    from yeldro.cli.deletion import run_dedupe

    return run_dedupe(options)
