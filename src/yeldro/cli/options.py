"""Options that several commands share. Imports little: a shell asks for them while somebody types."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, TypeVar

import click

from yeldro.cli.complete import complete_columns, complete_table

Command = TypeVar("Command", bound=Callable[..., Any])


# The options that choose rows by themselves.
SELECTING = ("where", "keys", "keys_from", "found_in", "not_found_in", "orphans", "limit", "all_rows")


def database_options(*formats: str) -> Callable[[Command], Command]:
    return _together(
        click.option("--db", metavar="DB", help="A path, a URL, or a name from yeldro.toml. Else YELDRO_DB."),
        click.option(
            "--wait",
            type=click.FloatRange(min=0),
            default=10,
            show_default=True,
            help="Seconds to wait for a lock.",
        ),
        click.option(
            "--format",
            type=click.Choice(["text", *formats]),
            default="text",
            show_default=True,
            help="Form of output.",
        ),
    )


def archive_option() -> Callable[[Command], Command]:
    return click.option("--archive", metavar="DIR", help="The folder of the run records. Else yeldro-runs.")


def selection_options(*, needs_table: bool = True) -> Callable[[Command], Command]:
    """The options that choose rows and say what happens to dependents."""
    return _together(
        click.argument("table", required=needs_table, shell_complete=complete_table),
        click.option("--where", multiple=True, metavar="EXPR", help="An SQL condition; repeat it to AND."),
        click.option(
            "-p",
            "parameters",
            multiple=True,
            metavar="NAME[:TYPE]=VALUE",
            help="A value for :NAME in a condition.",
        ),
        click.option("--key", "keys", multiple=True, metavar="VALUE", help="A primary key; a,b for a composite one."),
        click.option(
            "--keys-from", metavar="FILE", help="Keys from a CSV file whose header names the key; - is stdin."
        ),
        click.option(
            "--found-in",
            metavar="TABLE",
            shell_complete=complete_table,
            help="Rows that have a match in another table.",
        ),
        click.option("--not-found-in", metavar="TABLE", shell_complete=complete_table, help="Rows that have none."),
        click.option(
            "--on", metavar="COL[=COL],…", help="What must be equal in both; else the reference between them."
        ),
        click.option("--orphans", is_flag=True, help="Rows whose reference points at no row; --on names one."),
        click.option(
            "--order-by",
            shell_complete=complete_columns,
            metavar="COLS",
            help='With --limit: "COL [desc], …". NULLs come last.',
        ),
        click.option("--limit", type=int, metavar="N", help="With --order-by: the N first rows."),
        click.option("--all-rows", is_flag=True, help="The whole table may go."),
        click.option(
            "--truncate", is_flag=True, help="With --all-rows: the fast way, where nothing references the table."
        ),
        click.option("--unparsed", is_flag=True, help="Take a condition that only the database can read."),
        click.option(
            "--dependents",
            multiple=True,
            metavar="[TABLE=]RULE",
            help="What happens to dependents: declared (default), delete, detach or stop.",
        ),
        click.option(
            "--break-cycles",
            is_flag=True,
            help="On MariaDB: circles without a column that may be NULL go with its checks off; ours stay on.",
        ),
        click.option(
            "--strict",
            multiple=True,
            is_flag=False,
            flag_value="all",
            metavar="[NAME]",
            help="Cautions stop: all, or those named.",
        ),
        click.option(
            "--show",
            shell_complete=complete_columns,
            multiple=True,
            metavar="COLS",
            help="Columns of the sample, with commas.",
        ),
        click.option("--sample", default="10", show_default=True, metavar="N|all", help="Matched rows to show."),
    )


def _together(*decorators: Callable[[Any], Any]) -> Callable[[Command], Command]:
    def decorate(command: Command) -> Command:
        for decorator in reversed(decorators):
            command = decorator(command)
        return command

    return decorate
