"""yeldro script"""

from __future__ import annotations

from typing import Any

import click

from yeldro.cli.options import allow_function_option, database_options


@click.command("script")
@click.argument("cleanup", metavar="FILE")
@click.option("--step", multiple=True, metavar="NAME", help="Write only this step; repeat it for more.")
@click.option("-p", "parameters", multiple=True, metavar="NAME=VALUE", help="A value for a parameter of the file.")
@click.option("--dry", is_flag=True, help="End with ROLLBACK in place of COMMIT.")
@click.option("--archive-table", metavar="NAME", help="Keep copies of the rows in new tables NAME and NAME_table.")
@click.option("--no-archive", is_flag=True, help="Keep no copies.")
@click.option(
    "--for",
    "target",
    type=click.Choice(["sqlserver", "oracle", "postgresql"]),
    help="Write it for a server that Yeldro does not look at, from a schema file.",
)
@click.option("--schema", metavar="FILE", help="With --for: the CREATE TABLE statements.")
@allow_function_option()
@database_options("json")
def command(**options: Any) -> int:
    """Write a cleanup as one commented SQL script, for review or for a migration.

    It is rehearsed and rolled back; the script holds the same statements, with checks of the counts that they had. Ends
    with status 3 where the run would be stopped.
    """
    from yeldro.cli.write_script import write_script

    return write_script(options)
