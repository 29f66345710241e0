"""Options that several commands share, and what is made of them."""

from __future__ import annotations

import os
import re
import shlex
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

import click

from yeldro.core.cautions import read_strict
from yeldro.core.database import Database, Mode
from yeldro.core.guards import Guards, read_expected
from yeldro.core.preview import Request
from yeldro.core.reach import read_rules
from yeldro.core.selection import Asked
from yeldro.errors import UsageError

if TYPE_CHECKING:
    from yeldro.store.config import Place

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


def selection_options(*, needs_table: bool = True) -> Callable[[Command], Command]:
    """The options that choose rows and say what happens to dependents."""
    return _together(
        click.argument("table", required=needs_table),
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
        click.option("--found-in", metavar="TABLE", help="Rows that have a match in another table."),
        click.option("--not-found-in", metavar="TABLE", help="Rows that have none."),
        click.option(
            "--on", metavar="COL[=COL],…", help="What must be equal in both; else the reference between them."
        ),
        click.option("--orphans", is_flag=True, help="Rows whose reference points at no row; --on names one."),
        click.option("--order-by", metavar="COLS", help='With --limit: "COL [desc], …". NULLs come last.'),
        click.option("--limit", type=int, metavar="N", help="With --order-by: the N first rows."),
        click.option("--all-rows", is_flag=True, help="The whole table may go."),
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
        click.option("--show", multiple=True, metavar="COLS", help="Columns of the sample, with commas."),
        click.option("--sample", default="10", show_default=True, metavar="N|all", help="Matched rows to show."),
    )


def _together(*decorators: Callable[[Any], Any]) -> Callable[[Command], Command]:
    def decorate(command: Command) -> Command:
        for decorator in reversed(decorators):
            command = decorator(command)
        return command

    return decorate


def find_database(db: str | None) -> Place:
    """Where the database is that the options, the environment or yeldro.toml name."""
    from yeldro.store.config import find_config, find_place

    return find_place(db, os.environ.get("YELDRO_DB"), find_config(Path.cwd()))


@contextmanager
def opened(place: Place, mode: Mode, wait: float) -> Iterator[Database]:
    """An open connection, with the references that yeldro.toml adds to the schema."""
    from yeldro.engines import open_database

    database = open_database(place.address, mode, wait, os.environ.get("YELDRO_DB_PASSWORD"))
    database.name = place.name or database.name
    try:
        database.schema = database.schema.with_references(place.references)
        yield database
    finally:
        database.close()


def read_request(database: Database, options: dict[str, Any]) -> Request:
    """Turn the options of preview and delete into a request."""
    from yeldro.store.key_file import open_key_file

    if options["break_cycles"]:
        database.allow_broken_cycles()
    asked = Asked(
        options["table"],
        options["where"],
        options["parameters"],
        options["keys"],
        open_key_file(options["keys_from"]) if options["keys_from"] else None,
        options["found_in"],
        options["not_found_in"],
        options["on"],
        options["orphans"],
        options["order_by"],
        options["limit"],
        options["all_rows"],
        options["unparsed"],
    )
    expect = options.get("expect")
    return Request(
        asked,
        read_rules(options["dependents"], database.schema),
        Guards(
            read_expected(expect) if expect else None,
            options.get("max_rows"),
            options.get("max_share"),
            read_strict(options["strict"]),
        ),
        tuple(name.strip() for text in options["show"] for name in text.split(",") if name.strip()),
        _read_sample(options["sample"]),
    )


def _read_sample(text: str) -> int | None:
    if text == "all":
        return None
    if not text.isdigit():
        raise UsageError(f"--sample {text!r} is neither a number nor all.")
    return int(text)


def make_delete_line(options: dict[str, Any], matched: int) -> str:
    """The delete command for the same rows, as a person would type it."""
    words = ["yeldro", "delete", options["table"]]
    words += _pairs("--db", _without_password(options["db"]))
    for name, key in (("--where", "where"), ("-p", "parameters"), ("--key", "keys")):
        words += _pairs(name, options[key])
    for name in ("--keys-from", "--found-in", "--not-found-in", "--on"):
        words += _pairs(name, options[name[2:].replace("-", "_")])
    words += ["--orphans"] if options["orphans"] else []
    words += _pairs("--order-by", options["order_by"]) + _pairs("--limit", options["limit"])
    words += ["--all-rows"] if options["all_rows"] else []
    words += _pairs("--dependents", options["dependents"])
    words += ["--unparsed"] if options["unparsed"] else []
    words += _pairs("--strict", options["strict"])
    words += ["--break-cycles"] if options["break_cycles"] else []
    return " ".join(quote_word(word) for word in [*words, "--expect", str(matched)])


def _without_password(db: str | None) -> str | None:
    return re.sub(r"^(\w+://[^:/@]*):[^@]*@", r"\1@", db) if db else None


def _pairs(name: str, value: str | int | Sequence[str] | None) -> list[str]:
    if value is None:
        return []
    values = [str(value)] if isinstance(value, str | int) else value
    return [word for one in values for word in (name, one)]


def quote_word(word: str) -> str:
    """Quote for a POSIX shell, with double quotes where those are enough: conditions hold single ones."""
    if "'" in word and not re.search(r'[$`"\\!]', word):
        return f'"{word}"'
    return shlex.quote(word)
