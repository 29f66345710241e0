"""yeldro delete"""

from __future__ import annotations

from typing import Any

import click

from yeldro.cli.options import archive_option, database_options, selection_options


@click.command("delete")
@selection_options()
@click.option("--expect", metavar="N|A..B", help="How many rows must match.")
@click.option("--max-rows", type=click.IntRange(min=0), metavar="N", help="Most rows of the whole reach.")
@click.option(
    "--max-share",
    type=click.FloatRange(0, 100),
    metavar="PERCENT",
    help="Largest deleted share of any table.",
)
@click.option("--rehearse", is_flag=True, help="Do everything, show the tally, roll back.")
@click.option("--yes", is_flag=True, help="Do not ask.")
@click.option("--ask-last", is_flag=True, help="Ask with the tally in hand, while the transaction is open.")
@archive_option()
@click.option("--archive-table", metavar="NAME", help="Keep the copy in new tables of the same database.")
@click.option("--no-archive", is_flag=True, help="Keep no copy of the rows.")
@click.option(
    "--leave-out", multiple=True, metavar="COLS", help="Columns, or TABLE.COLUMN, that the copy goes without."
)
@click.option("--confirm", metavar="NAME", help="The name of a protected database, instead of typing it.")
@database_options("json")
def command(**options: Any) -> int:
    """Delete the chosen rows of TABLE and what hangs on them, children first, in one transaction.

    Shows the preview, asks, keeps an exact copy, deletes, compares every count, and commits only if all is as expected.
    """
    from yeldro.cli.deletion import run_deletion

    return run_deletion(options)
