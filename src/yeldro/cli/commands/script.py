"""yeldro script"""

from __future__ import annotations

import click

from yeldro.cli.options import command_of, takes
from yeldro.options import ScriptOptions


@command_of("script", ScriptOptions)
@click.argument("cleanup", metavar="FILE")
@takes(ScriptOptions)
def command(options: ScriptOptions) -> int:
    """Write a cleanup as one commented SQL script, for review or for a migration.

    It is rehearsed and rolled back; the script holds the same statements, with checks of the counts
    that they had. Ends with status 3 where the run would be stopped.
    """
    from yeldro.cli.write_script import write_script

    return write_script(options)
