"""yeldro run"""

from __future__ import annotations

from typing import Any

import click

from yeldro.cli.options import allow_function_option, database_options, run_options


@click.command("run")
@click.argument("cleanup", metavar="FILE")
@click.option("--step", multiple=True, metavar="NAME", help="Run only this step; repeat it for more.")
@click.option("-p", "parameters", multiple=True, metavar="NAME=VALUE", help="A value for a parameter of the file.")
@click.option("--explain", is_flag=True, help="Say in plain sentences what the file does; run nothing.")
@click.option("--show-changes", is_flag=True, help="Show which rows came and went since the file was sealed.")
@click.option("--quiet", is_flag=True, help="Say nothing where nothing matched, and no preview.")
@click.option("--log", metavar="FILE", help="Add one line on how it ended to a log file; syslog: to the system's log.")
@allow_function_option()
@run_options(guards=False)
@database_options("json")
def command(**options: Any) -> int:
    """Run a saved cleanup: every step of a file, in one transaction.

    Asks for parameters that have no default, shows the preview of each step, asks once, and commits only if all is as
    expected. Each step sees what those before it did.
    """
    from yeldro.cli.run_cleanup import run_cleanup

    return run_cleanup(options)
