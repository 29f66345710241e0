"""yeldro delete"""

from __future__ import annotations

from typing import Any

import click

from yeldro.cli.options import database_options, run_options, save_options, selection_options


@click.command("delete")
@selection_options()
@run_options()
@save_options()
@database_options("json")
def command(**options: Any) -> int:
    """Delete the chosen rows of TABLE and what hangs on them, children first, in one transaction.

    Shows the preview, asks, keeps an exact copy, deletes, compares every count, and commits only if all is as expected.
    """
    from yeldro.cli.deletion import run_deletion

    return run_deletion(options)
