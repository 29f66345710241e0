"""What is made of the options: an open database, a request, and the line that would follow."""

from __future__ import annotations

import os
import re
import shlex
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from yeldro.cli.place import find_records_folder
from yeldro.cli.screen import Screen
from yeldro.core.cautions.caution import read_strict
from yeldro.core.database.connection import Database, Mode
from yeldro.core.duplicates.groups import DuplicatesRequest, Filling, Nulls, read_duplicates, split_list
from yeldro.core.model.address import Address, looks_like_address, read_address
from yeldro.core.reach.search import Rule, read_rules
from yeldro.core.run.preview import Request
from yeldro.core.selection.guards import Guards, read_expected
from yeldro.core.selection.selection import Asked
from yeldro.engines.open import open_database
from yeldro.errors import UsageError
from yeldro.store.config import Place
from yeldro.store.key_file import open_key_file
from yeldro.store.records import Keeping

# The options that say what is asked for, in the order in which a person would type them.
_IN_ORDER = (
    *("--keys-from", "--found-in", "--not-found-in", "--on", "--orphans", "--order-by", "--limit", "--all-rows"),
    *("--same", "--ignore", "--nulls", "--keep", "--dependents", "--fill", "--then-unique", "--truncate"),
    *("--unparsed", "--allow-function", "--strict", "--break-cycles", "--expect", "--max-rows", "--max-share"),
)
_USUAL = {"--nulls": "different"}


@contextmanager
def opened(place: Place, mode: Mode, wait: float, allowed: Sequence[str] = ()) -> Iterator[Database]:
    """An open connection, with the references that yeldro.toml adds to the schema.

    `allowed` are functions that conditions may call, whatever they do.
    """
    if place.source and not place.address.is_file:
        raise UsageError(f"{place.source} names the server {place.address}, and you do not.")
    database = open_database(place.address, mode, wait, os.environ.get("YELDRO_DB_PASSWORD"), place.link)
    database.name, database.title = place.name or str(place.address), place.title
    try:
        database.schema = database.schema.with_references(place.references)
        database.allow_functions(allowed)
        yield database
        if database.note:
            Screen("text").note(database.note)
    finally:
        database.close()


def read_request(database: Database, options: dict[str, Any]) -> Request:
    """Turn the options of preview and delete into a request."""
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
        options["truncate"],
    )
    return Request(
        asked,
        read_rules(options["dependents"], database.schema, breaks_cycles=options["break_cycles"]),
        _read_guards(options),
        tuple(name.strip() for text in options["show"] for name in text.split(",") if name.strip()),
        _read_sample(options["sample"]),
    )


def read_duplicates_request(database: Database, options: dict[str, Any]) -> DuplicatesRequest:
    """Turn the options of duplicates and dedupe into a request."""
    asked = Asked(options["table"], options["where"], options["parameters"], all_rows=True)
    keep = split_list(options["keep"])
    ignore = [name.strip() for name in options["ignore"].split(",") if name.strip()]
    grouping = read_duplicates(
        database.schema, database.dialect, asked, split_list(options["same"]), keep, Nulls(options["nulls"]), ignore
    )
    return DuplicatesRequest(
        grouping,
        None if options["all_groups"] else options["groups"],
        read_rules(options["dependents"], database.schema, Rule.MOVE),
        _read_guards(options),
        Filling(options["fill"]) if options["fill"] else None,
        options["then_unique"] or "",
    )


def _read_guards(options: dict[str, Any]) -> Guards:
    expect = options.get("expect")
    return Guards(
        read_expected(expect) if expect else None,
        options.get("max_rows"),
        options.get("max_share"),
        read_strict(options["strict"]),
        bool(options.get("no_rollback")),
    )


def read_keeping(kind: str, options: dict[str, Any], address: Address) -> Keeping:
    """Turn the options of a run that say what is kept into what the run needs."""
    if options["no_archive"] and (options["archive_table"] or options["leave_out"]):
        raise UsageError("--no-archive excludes --archive-table and --leave-out.")
    facts = {"kind": kind, "asked": make_line(kind, options), "address": full_address(address)}
    return Keeping(
        find_records_folder(options["archive"]),
        not options["no_archive"],
        options["archive_table"] or "",
        options["leave_out"],
        facts,
        Path(options["cleanup"]).stem if kind == "run" else "",
    )


def _read_sample(text: str) -> int | None:
    if text == "all":
        return None
    if not text.isdigit():
        raise UsageError(f"--sample {text!r} is neither a number nor all.")
    return int(text)


def make_delete_line(options: dict[str, Any], matched: int) -> str:
    """The delete command for the same rows, as a person would type it."""
    return f"{make_line('delete', options)} --expect {matched}"


def make_line(command: str, options: dict[str, Any]) -> str:
    """A command that chooses these rows, as a person would type it."""
    if command == "run":
        words = ["yeldro", "run", options["cleanup"], *_pairs("--step", options["step"])]
        words += [*_pairs("-p", options["parameters"]), *_pairs("--allow-function", options["allow_function"])]
        return " ".join(map(quote_word, words))
    words = ["yeldro", command, options["table"]]
    words += _pairs("--db", without_password(options["db"]) if options["db"] else None)
    for name, key in (("--where", "where"), ("-p", "parameters"), ("--key", "keys")):
        words += _pairs(name, options.get(key))
    for name in _IN_ORDER:
        value = options.get(name[2:].replace("-", "_"))
        if value is True or (name, value) == ("--fill", "null"):
            words.append(name)
        elif value not in (False, "", _USUAL.get(name)):
            words += _pairs(name, value)
    return " ".join(map(quote_word, words))


def full_address(address: Address) -> str:
    """Where a database is, as it can be found again from any folder, without a password."""
    return str(Path(address.path).resolve() if address.is_file else address)


def without_password(db: str) -> str:
    """What a person said with --db, as it may be shown."""
    return str(read_address(db)) if looks_like_address(db) else db


def _pairs(name: str, value: str | float | Sequence[str] | None) -> list[str]:
    if value is None:
        return []
    values = [str(value)] if isinstance(value, str | int | float) else value
    return [word for one in values for word in (name, one)]


def quote_word(word: str) -> str:
    """Quote for a POSIX shell, with double quotes where those are enough: conditions hold single ones."""
    if "'" in word and not re.search(r'[$`"\\!]', word):
        return f'"{word}"'
    return shlex.quote(word)
