"""What is made of the options: an open database, a request, and the line that would follow."""

from __future__ import annotations

import re
import shlex
from collections.abc import Sequence
from pathlib import Path

from msgspec.structs import replace

from yeldro.cli.asked_options import write_values
from yeldro.cli.place import find_records_folder
from yeldro.core.cautions.caution import read_strict
from yeldro.core.clearing.request import ClearRequest, Emptiness
from yeldro.core.clearing.rules import CLEARING
from yeldro.core.database.connection import Database
from yeldro.core.duplicates.request import (
    DuplicatesRequest,
    Filling,
    Nulls,
    read_duplicates,
    split_list,
)
from yeldro.core.model.address import Address, looks_like_address, read_address
from yeldro.core.reach.request import Request
from yeldro.core.reach.rules import Rule, read_rules
from yeldro.core.selection.guards import Guards, make_guards
from yeldro.core.selection.selection import CHOOSING, Asked
from yeldro.errors import UsageError
from yeldro.options import (
    ChangingOptions,
    ColumnsOptions,
    DedupeOptions,
    GroupsOptions,
    Kind,
    LimitOptions,
    MapOptions,
    Option,
    PreviewOptions,
    RowsOptions,
    RunOptions,
    SelectionOptions,
    SurveyOptions,
    TableOptions,
    fields_of,
    options_of,
)
from yeldro.store.decision_file import read_decisions
from yeldro.store.key_file import open_key_file
from yeldro.store.run_record import Keeping


def read_asked(options: SelectionOptions, *, truncate: bool = False) -> Asked:
    """Which rows a person asked for."""
    key_file = open_key_file(options.keys_from) if options.keys_from else None
    same = {
        name: getattr(options, name) for name in Asked.__struct_fields__ if hasattr(options, name)
    }
    return Asked(**{**same, "key_file": key_file, "truncate": truncate})


def is_selection(options: SelectionOptions) -> bool:
    """Whether they choose rows."""
    return any(getattr(options, name) not in ((), None, False) for name in CHOOSING)


def read_mapped_request(database: Database, options: MapOptions) -> Request:
    """Turn the options of map into a request."""
    rules = read_rules(options.dependents, database.schema, breaks_cycles=options.break_cycles)
    return Request(read_asked(options), rules)


def read_request(
    database: Database, options: RowsOptions | ColumnsOptions, *, no_rollback: bool = False
) -> Request:
    """Turn the options of preview, delete or clear into a request."""
    if isinstance(options, ColumnsOptions):
        return read_clear_request(database, options, no_rollback=no_rollback)
    return Request(
        read_asked(options, truncate=options.truncate),
        read_rules(options.dependents, database.schema, breaks_cycles=options.break_cycles),
        read_guards(options, no_rollback=no_rollback),
        _split(options.show),
        _read_sample(options.sample),
    )


def read_clear_request(
    database: Database, options: ColumnsOptions, *, no_rollback: bool = False
) -> ClearRequest:
    """Turn the options of clear into a request."""
    return ClearRequest(
        read_asked(options),
        read_rules(options.dependents, database.schema, known=CLEARING),
        read_guards(options, no_rollback=no_rollback),
        _split(options.show),
        _read_sample(options.sample),
        columns=_split(options.columns),
        to=Emptiness(options.to),
    )


def as_previewed(options: PreviewOptions) -> RowsOptions | ColumnsOptions:
    """The options of what is previewed: a deletion, or what clear would do."""
    if not options.columns:
        return options
    if options.truncate or options.break_cycles:
        raise UsageError("--clear keeps the rows: it excludes --truncate and --break-cycles.")
    same = {one.name: getattr(options, one.name) for one in fields_of(ColumnsOptions)}
    return ColumnsOptions(**same)


def read_duplicates_request(
    database: Database, options: GroupsOptions, *, no_rollback: bool = False
) -> DuplicatesRequest:
    """Turn the options of duplicates and dedupe into a request."""
    asked = Asked(options.table, options.where, options.parameters, all_rows=True)
    ignored = [name.strip() for name in options.ignore.split(",") if name.strip()]
    grouping = read_duplicates(
        database.schema,
        database.dialect,
        asked,
        split_list(options.same or ""),
        split_list(options.keep),
        Nulls(options.nulls),
        ignored,
    )
    decisions = None
    if isinstance(options, DedupeOptions) and options.decisions:
        decisions = read_decisions(Path(options.decisions), grouping.table)
        grouping = replace(grouping, by_hand=True)
    return DuplicatesRequest(
        grouping,
        None if options.all_groups else options.groups,
        read_rules(options.dependents, database.schema, Rule.MOVE),
        read_guards(options, no_rollback=no_rollback),
        Filling(options.fill) if options.fill else None,
        options.then_unique or "",
        decisions,
        options.rows,
    )


def read_guards(options: LimitOptions, *, no_rollback: bool = False) -> Guards:
    """The limits of a command. `no_rollback`: the person knows what no rollback takes back."""
    values = {one.name: getattr(options, one.name) for one in options_of(LimitOptions)}
    return make_guards(values, read_strict, no_rollback=no_rollback)


def read_keeping(kind: str, options: ChangingOptions, line: str, address: Address) -> Keeping:
    """What a run keeps. `line` is the command that asks for the same."""
    if options.no_archive and (options.archive_table or options.leave_out):
        raise UsageError("--no-archive excludes --archive-table and --leave-out.")
    return Keeping(
        find_records_folder(options.archive),
        not options.no_archive,
        options.archive_table or "",
        options.leave_out,
        {
            "kind": kind,
            "asked": line,
            "address": full_address(address),
            "options": write_values(options),
        },
        Path(options.cleanup).stem if isinstance(options, RunOptions) else "",
    )


def _split(texts: Sequence[str]) -> tuple[str, ...]:
    """Names with commas between them, or in several texts."""
    return tuple(name.strip() for text in texts for name in text.split(",") if name.strip())


def _read_sample(text: str) -> int | None:
    if text == "all":
        return None
    if not text.isdigit():
        raise UsageError(f"--sample {text!r} is neither a number nor all.")
    return int(text)


def make_run_line(options: RunOptions) -> str:
    """The run of a file, as a person would type it."""
    words = ["yeldro", "run", options.cleanup, *_pairs("--step", options.step)]
    words += _pairs("-p", options.parameters)
    words += _pairs("--allow-function", options.allow_function)
    return " ".join(map(quote_word, words))


def make_line(command: str, options: TableOptions | SurveyOptions) -> str:
    """A command that chooses these rows, as a person would type it."""
    tables = options.tables if isinstance(options, SurveyOptions) else (options.table,)
    words = ["yeldro", command, *tables]
    if options.db:
        words += ["--db", without_password(options.db)]
    for one in options_of(type(options)):
        if one.typed:
            words += _write_option(one, getattr(options, one.name))
    return " ".join(map(quote_word, words))


def _write_option(one: Option, value: object) -> list[str]:
    if value == one.default:
        return []
    if one.kind is Kind.FLAG or (one.kind is Kind.FILL and value == one.alone):
        return [one.flag]
    values = value if isinstance(value, tuple) else (value,)
    return _pairs(one.flag, [str(part) for part in values])


def _pairs(flag: str, values: Sequence[str]) -> list[str]:
    return [word for value in values for word in (flag, value)]


def full_address(address: Address) -> str:
    """Where a database is, as it can be found again from any folder, without a password."""
    return str(Path(address.path).resolve() if address.is_file else address)


def without_password(db: str) -> str:
    """What a person said with --db, as it may be shown."""
    return str(read_address(db)) if looks_like_address(db) else db


def quote_word(word: str) -> str:
    """Quote for a POSIX shell, with double quotes where those are enough: conditions hold single
    ones."""
    if "'" in word and not re.search(r'[$`"\\!]', word):
        return f'"{word}"'
    return shlex.quote(word)
