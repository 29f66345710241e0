"""Options that several commands share. Imports little: a shell asks for them while somebody types."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, TypeVar

import click

from yeldro.cli.complete import complete_columns, complete_table

Command = TypeVar("Command", bound=Callable[..., Any])


# What a database can count to.
LARGEST = (1 << 63) - 1
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


def run_options(*, guards: bool = True) -> Callable[[Command], Command]:
    """The options of a command that changes rows: its limits, unless without `guards`, its manner, what it keeps."""
    return _together(
        *(_guard_options() if guards else ()),
        click.option("--rehearse", is_flag=True, help="Do everything, show the tally, roll back."),
        click.option("--yes", is_flag=True, help="Do not ask."),
        click.option("--ask-last", is_flag=True, help="Ask with the tally in hand, while the transaction is open."),
        archive_option(),
        click.option("--archive-table", metavar="NAME", help="Keep the copy in new tables of the same database."),
        click.option("--no-archive", is_flag=True, help="Keep no copy of the rows."),
        click.option(
            "--leave-out", multiple=True, metavar="COLS", help="Columns, or TABLE.COLUMN, that the copy goes without."
        ),
        no_rollback_option(),
        click.option("--confirm", metavar="NAME", help="The name of a protected database, instead of typing it."),
    )


def allow_function_option() -> Callable[[Command], Command]:
    return click.option(
        "--allow-function",
        multiple=True,
        metavar="NAME",
        help="Conditions may call this function, though it could do more than look.",
    )


def no_rollback_option() -> Callable[[Command], Command]:
    return click.option(
        "--no-rollback", is_flag=True, help="Triggers may write to tables that cannot roll back; excludes --rehearse."
    )


def save_options() -> Callable[[Command], Command]:
    return _together(
        click.option("--save", metavar="FILE", help="Write the same as a cleanup file, for yeldro run."),
        click.option("--replace", is_flag=True, help="--save may write over a file; its comments stay."),
        click.option("--seal", is_flag=True, help="Seal it: it then runs only while it finds exactly these rows."),
    )


def _guard_options() -> list[Callable[[Any], Any]]:
    return [
        click.option("--expect", metavar="N|A..B", help="How many rows must match; of duplicates: be surplus."),
        click.option("--max-rows", type=click.IntRange(min=0), metavar="N", help="Most rows of the whole reach."),
        click.option(
            "--max-share",
            type=click.FloatRange(0, 100),
            metavar="PERCENT",
            help="Largest deleted share of any table.",
        ),
    ]


def _parameter_option() -> Callable[[Any], Any]:
    return click.option(
        "-p", "parameters", multiple=True, metavar="NAME[:TYPE]=VALUE", help="A value for :NAME in a condition."
    )


def _strict_option() -> Callable[[Any], Any]:
    return click.option(
        "--strict",
        multiple=True,
        is_flag=False,
        flag_value="all",
        metavar="[NAME]",
        help="Cautions stop: all, or those named.",
    )


def duplicates_options(*, guards: bool) -> Callable[[Command], Command]:
    """The options that say which rows are the same, which of them stays, and what becomes of what hangs on the others.
    `guards`: with the limits of a run."""
    return _together(
        click.argument("table", shell_complete=complete_table),
        click.option(
            "--same",
            metavar="COLS",
            shell_complete=complete_columns,
            help="What makes them the same: columns or expressions; all: every column.",
        ),
        click.option(
            "--ignore",
            default="",
            metavar="WHAT",
            help="What does not count in texts: case, space, accents; with commas.",
        ),
        click.option(
            "--nulls",
            type=click.Choice(["different", "same"]),
            default="different",
            show_default=True,
            help="Whether NULLs are the same.",
        ),
        click.option(
            "--keep",
            default="",
            metavar="RULES",
            help="Which row stays: fullest, newest COL, oldest COL, highest COL, lowest COL, where EXPR; with commas.",
        ),
        click.option("--where", multiple=True, metavar="EXPR", help="Look only at rows that meet a condition."),
        _parameter_option(),
        allow_function_option(),
        click.option(
            "--dependents",
            multiple=True,
            metavar="[TABLE=]RULE",
            help="What happens to dependents: move (default), delete, detach or stop; TABLE=delete drops those that"
            " collide.",
        ),
        click.option(
            "--fill",
            is_flag=False,
            flag_value="null",
            type=click.Choice(["null", "blank"]),
            help="Fill NULLs of the kept row, with blank empty texts too, from its surplus rows.",
        ),
        click.option("--then-unique", metavar="NAME", help="Then add the unique index that keeps duplicates out."),
        _strict_option(),
        *(_guard_options() if guards else ()),
        click.option("--groups", type=click.IntRange(min=0), default=10, show_default=True, help="Groups to show."),
        click.option("--all", "all_groups", is_flag=True, help="Show every group."),
    )


def selection_options(*, needs_table: bool = True) -> Callable[[Command], Command]:
    """The options that choose rows and say what happens to dependents."""
    return _together(
        click.argument("table", required=needs_table, shell_complete=complete_table),
        click.option("--where", multiple=True, metavar="EXPR", help="An SQL condition; repeat it to AND."),
        _parameter_option(),
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
        click.option(
            "--limit", type=click.IntRange(max=LARGEST), metavar="N", help="With --order-by: the N first rows."
        ),
        click.option("--all-rows", is_flag=True, help="The whole table may go."),
        click.option(
            "--truncate", is_flag=True, help="With --all-rows: the fast way, where nothing references the table."
        ),
        allow_function_option(),
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
        _strict_option(),
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
