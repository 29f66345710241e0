"""yeldro duplicates"""

from __future__ import annotations

from typing import Any

import click

from yeldro.cli.complete import complete_columns, complete_table
from yeldro.cli.options import database_options


@click.command("duplicates")
@click.argument("table", shell_complete=complete_table)
@click.option(
    "--same",
    metavar="COLS",
    shell_complete=complete_columns,
    help="What makes them the same; all: every column.",
)
@click.option(
    "--keep",
    default="",
    metavar="RULES",
    help="Which row stays: fullest, newest COL, oldest COL, highest COL, lowest COL, where EXPR; with commas.",
)
@click.option(
    "--nulls",
    type=click.Choice(["different", "same"]),
    default="different",
    show_default=True,
    help="Whether NULLs are the same.",
)
@click.option("--where", multiple=True, metavar="EXPR", help="Look only at rows that meet a condition.")
@click.option("-p", "parameters", multiple=True, metavar="NAME[:TYPE]=VALUE", help="A value for :NAME in a condition.")
@click.option("--groups", type=click.IntRange(min=0), default=10, show_default=True, help="Groups to show.")
@click.option("--all", "all_groups", is_flag=True, help="Show every group.")
@database_options("json")
def command(**options: Any) -> int:
    """Groups of rows of TABLE that are the same in some columns: which would stay, and where they differ.

    Changes nothing. Without --keep the lowest key would stay. Without --same, columns that are unique but for a few
    rows are proposed.
    """
    from yeldro import workflow
    from yeldro.cli.place import find_database
    from yeldro.cli.request import opened
    from yeldro.cli.screen import Screen
    from yeldro.core.database import Mode
    from yeldro.core.duplicates import Nulls, read_duplicates, split_rules
    from yeldro.core.selection import Asked
    from yeldro.report.duplicates import make_duplicates, make_proposals, render_duplicates, render_proposals

    screen = Screen(options["format"])
    asked = Asked(options["table"], options["where"], options["parameters"], all_rows=not options["where"])
    if options["same"] is None:
        with opened(find_database(options["db"]), Mode.READ, options["wait"]) as database:
            table = database.schema.find_table(options["table"])
            proposed = workflow.proposals(database, table)
        if screen.format == "json":
            screen.write_document(make_proposals(table, proposed))
        else:
            screen.show(render_proposals(table, proposed))
        return 0
    same = [name.strip() for name in options["same"].split(",") if name.strip()]
    with opened(find_database(options["db"]), Mode.READ, options["wait"]) as database:
        request = read_duplicates(
            database.schema,
            database.dialect,
            asked,
            same,
            split_rules(options["keep"]),
            Nulls(options["nulls"]),
            None if options["all_groups"] else options["groups"],
        )
        found = workflow.duplicates(database, request)
    if screen.format == "json":
        screen.write_document(make_duplicates(found))
    else:
        screen.show(render_duplicates(found))
    return 0
