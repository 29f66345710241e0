"""yeldro run"""

from __future__ import annotations

import click

from yeldro.cli.options import command_of, takes
from yeldro.options import RunOptions


@command_of("run", RunOptions)
@click.argument("cleanup", metavar="FILE")
@takes(RunOptions)
def command(options: RunOptions) -> int:
    """Run a saved cleanup: every step of a file, in one transaction.

    Asks for parameters that have no default, shows the preview of each step, asks once, and commits
    only if all is as expected. Each step sees what those before it did.
    """
    from yeldro.cli.run_cleanup import run_cleanup

    return run_cleanup(options)
