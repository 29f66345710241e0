"""Every option, once: its kind, its default, its words, its place in the help.

An option is a field of the frozen values below, and a command has the fields of one of them. The
command line, the keys of cleanup files and their JSON Schema, `--save`, the line that a person can
go on with, `run --explain`, and the table of options in the docs are drawn from here.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import MISSING, Field, dataclass, field, fields
from enum import Enum
from itertools import count
from typing import Any, Self, cast, dataclass_transform

from msgspec import Struct

# What a database can count to.
LARGEST = (1 << 63) - 1
_order = count()


class Group(Enum):
    """The heading in the help under which an option stands."""

    ROWS = "Choose rows"
    DEPENDENTS = "Dependents"
    LIMITS = "Limits"
    RUNNING = "Running"
    BATCHES = "In batches"
    COPY = "Copy"
    OUTPUT = "Output"


class Kind(Enum):
    """What a value may be, on the command line and in a file.

    A file has several texts as a list, and one text where there is only one. On the command line
    TEXTS are repeated options, LIST is one text with commas, NAMES may be both.
    """

    TEXT = "a text"
    TEXTS = "texts"
    LIST = "a list in one text"
    NAMES = "names"
    FLAG = "true or false"
    COUNT = "a whole number"
    FIRST = "a whole number from 1"
    SECONDS = "a number from 0"
    SHARE = "a number from 0 to 100"
    EXPECT = "a count or a range"
    SAMPLE = "a whole number or all"
    SIZE = "a whole number from 1 or auto"
    RULES = "a rule, or rules by table"
    CHOICE = "one of some words"
    FILL = "a flag, or the word blank"


SEVERAL = frozenset({Kind.TEXTS, Kind.NAMES, Kind.RULES})


class Option(Struct, frozen=True, eq=False):
    """One option of one command.

    `metavar` stands for the value in the help. `flag` is how it is typed, `key` how a step of a
    cleanup file has it, "" where a step cannot. `typed` says that the line which asks for the same
    rows has it. `says` is the sentence for it in an explanation, with {} for the value; "" where it
    takes more than one sentence to say. `completes` is what a shell offers: table, columns, or "".
    """

    name: str
    kind: Kind
    group: Group
    help: str
    metavar: str
    default: Any
    flag: str
    key: str
    typed: bool
    says: str
    choices: tuple[str, ...]
    completes: str
    alone: str
    order: int

    @property
    def takes_several(self) -> bool:
        return self.kind in SEVERAL


def option(  # noqa: PLR0913  # a row of a table, most of it by name
    kind: Kind,
    group: Group,
    metavar: str,
    help: str,
    *,
    default: Any = None,
    flag: str = "",
    key: str | None = None,
    kept: bool = False,
    typed: bool | None = None,
    says: str = "",
    choices: tuple[str, ...] = (),
    completes: str = "",
    alone: str = "",
) -> Any:
    """A field that is an option. One that is `kept` stands in steps of cleanup files, under its own
    name unless `key` says another; `alone` is the value of an option that may be given without one.
    """
    if kind in SEVERAL:
        default = ()
    elif kind is Kind.FLAG:
        default = False
    said = {
        "kind": kind,
        "group": group,
        "help": help,
        "metavar": metavar,
        "flag": flag,
        "key": key,
        "kept": kept,
        "typed": kept if typed is None else typed,
        "says": says,
        "choices": choices,
        "completes": completes,
        "alone": alone,
        "order": next(_order),
    }
    return field(default=default, metadata=said)


def options_of(kind: type[Options]) -> tuple[Option, ...]:
    """The options of a command, in the order in which they are declared here."""
    found = [_make_option(one) for one in fields_of(kind) if "kind" in one.metadata]
    return tuple(sorted(found, key=lambda one: one.order))


def _make_option(one: Any) -> Option:
    said = dict(one.metadata)
    kept, key = said.pop("kept"), said.pop("key")
    assert one.default is not MISSING
    flag = said.pop("flag") or f"--{one.name.replace('_', '-')}"
    return Option(
        name=one.name, default=one.default, flag=flag, key=(key or one.name) if kept else "", **said
    )


def keys_of(kind: type[Options]) -> Mapping[str, Option]:
    """The options that a step of a cleanup file has, by their keys."""
    return {one.key: one for one in options_of(kind) if one.key}


def find_lines(kind: type[Options]) -> Mapping[Group, tuple[Option, ...]]:
    """The options of a command under the headings of its help."""
    found = options_of(kind)
    groups = {group: tuple(one for one in found if one.group is group) for group in Group}
    return {group: listed for group, listed in groups.items() if listed}


@dataclass_transform(kw_only_default=True, frozen_default=True)
class Options:
    """A frozen value. It becomes a dataclass when it is first used, with what it inherits: a
    command has one of them, and making all would take a fifth of its start."""

    def __init__(self, **given: Any) -> None:
        known = {one.name: given.pop(one.name, one.default) for one in fields_of(type(self))}
        if given:
            raise TypeError(f"{type(self).__name__} has no {', '.join(given)}")
        vars(self).update(known)

    def __setattr__(self, name: str, value: Any) -> None:
        raise AttributeError(f"{name} of a frozen value")

    def but(self, **changes: Any) -> Self:
        """The same, with other values of some options."""
        same = {one.name: getattr(self, one.name) for one in fields_of(type(self))}
        return type(self)(**{**same, **changes})


def fields_of(kind: type[Options]) -> tuple[Field[Any], ...]:
    """Those of an option, and others."""
    for one in reversed(kind.__mro__[:-2]):
        if "__dataclass_fields__" not in vars(one):
            dataclass(init=False, eq=False, repr=False)(one)
    return fields(cast(Any, kind))


class DatabaseOptions(Options):
    """Of every command that opens a database."""

    db: str | None = option(
        Kind.TEXT, Group.RUNNING, "DB", "A path, a URL, a name of yeldro.toml; or YELDRO_DB."
    )
    wait: float = option(
        Kind.SECONDS, Group.RUNNING, "SECONDS", "How long to wait for a lock.", default=10
    )
    format: str = option(
        Kind.CHOICE,
        Group.OUTPUT,
        "FORM",
        "The form of the output:",
        default="text",
        choices=("text", "json"),
    )


class CsvOptions(DatabaseOptions):
    """Of those whose result can be written as CSV too. It comes first among the bases, or it
    decides nothing."""

    format: str = option(
        Kind.CHOICE,
        Group.OUTPUT,
        "FORM",
        "The form of the output:",
        default="text",
        choices=("text", "json", "csv"),
    )


class TableOptions(DatabaseOptions):
    """Of those that look at rows of one table which meet conditions."""

    table: str = ""
    where: tuple[str, ...] = option(
        Kind.TEXTS,
        Group.ROWS,
        "EXPR",
        "Rows that meet this SQL condition; several: AND.",
        kept=True,
    )
    parameters: tuple[str, ...] = option(
        Kind.TEXTS,
        Group.ROWS,
        "NAME[:TYPE]=VALUE",
        "The value of :NAME in a condition.",
        flag="-p",
        typed=True,
    )


class SelectionOptions(TableOptions):
    """Which rows of a table are meant, in every way in which they can be chosen."""

    keys: tuple[str, ...] = option(
        Kind.TEXTS,
        Group.ROWS,
        "VALUE",
        "The row with this key; a,b for a composite one.",
        flag="--key",
        key="key",
        kept=True,
        says="Only those with the keys {}.",
    )
    keys_from: str | None = option(
        Kind.TEXT,
        Group.ROWS,
        "FILE",
        "Rows whose keys are in a CSV file; - for stdin.",
        kept=True,
        says="Only those whose keys are in {}.",
    )
    by: str | None = option(
        Kind.TEXT,
        Group.ROWS,
        "COLS",
        "With --keys-from: unique columns in place of the key.",
        kept=True,
        says="They are looked up there by {}.",
        completes="columns",
    )
    found_in: str | None = option(
        Kind.TEXT,
        Group.ROWS,
        "TABLE",
        "Rows with a match in another table.",
        kept=True,
        completes="table",
    )
    not_found_in: str | None = option(
        Kind.TEXT,
        Group.ROWS,
        "TABLE",
        "Rows with no match in another table.",
        kept=True,
        completes="table",
    )
    on: str | None = option(
        Kind.TEXT,
        Group.ROWS,
        "COL[=COL],…",
        "What must be equal in both; else the reference.",
        kept=True,
    )
    orphans: bool = option(
        Kind.FLAG,
        Group.ROWS,
        "",
        "Rows whose reference points at no row; --on names one.",
        kept=True,
        says="Only those whose reference points at no row.",
    )
    order_by: str | None = option(
        Kind.TEXT,
        Group.ROWS,
        "COLS",
        'With --limit: "COL [desc], …". NULLs last.',
        kept=True,
        completes="columns",
    )
    limit: int | None = option(
        Kind.FIRST, Group.ROWS, "N", "With --order-by: the first N rows.", kept=True
    )
    all_rows: bool = option(
        Kind.FLAG,
        Group.ROWS,
        "",
        "Every row of the table.",
        kept=True,
        says="It may be all rows of the table.",
    )
    unparsed: bool = option(
        Kind.FLAG,
        Group.ROWS,
        "",
        "Take a condition that only the database can read.",
        kept=True,
        says="Its condition may be one that only the database can read.",
    )


class SamenessOptions(TableOptions):
    """Which rows of a table are the same, and which of them stays."""

    same: str | None = option(
        Kind.LIST,
        Group.ROWS,
        "COLS",
        "What must be equal: columns or expressions, or all.",
        kept=True,
        completes="columns",
    )
    ignore: str = option(
        Kind.LIST,
        Group.ROWS,
        "WHAT",
        "What does not count: case, space, accents.",
        default="",
        kept=True,
    )
    nulls: str = option(
        Kind.CHOICE,
        Group.ROWS,
        "HOW",
        "Whether NULLs are equal:",
        default="different",
        choices=("same", "different"),
        kept=True,
    )
    keep: str = option(
        Kind.LIST,
        Group.ROWS,
        "RULES",
        "fullest, newest/oldest/highest/lowest COL, where EXPR.",
        default="",
        kept=True,
    )


class CallOptions(DatabaseOptions):
    """Of those that send what a person wrote."""

    allow_function: tuple[str, ...] = option(
        Kind.TEXTS,
        Group.RUNNING,
        "NAME",
        "A function that conditions may call all the same.",
        typed=True,
    )


class DependentOptions(Options):
    """What happens to the rows that depend on the chosen ones."""

    dependents: tuple[str, ...] = option(
        Kind.RULES,
        Group.DEPENDENTS,
        "[TABLE=]RULE",
        "declared (default), delete, detach, stop.",
        kept=True,
        choices=("declared", "delete", "detach", "stop"),
    )
    break_cycles: bool = option(
        Kind.FLAG,
        Group.DEPENDENTS,
        "",
        "Cycles on MariaDB: its checks off, ours on.",
        kept=True,
        says="On MariaDB, rows that reference each other in a cycle go with the server's checks "
        "off; ours stay on.",
    )


class MovingOptions(Options):
    """What happens to the rows that depend on surplus ones, and to the row that stays."""

    dependents: tuple[str, ...] = option(
        Kind.RULES,
        Group.DEPENDENTS,
        "[TABLE=]RULE",
        "move (default), delete, detach, stop.",
        kept=True,
        choices=("move", "delete", "detach", "stop"),
    )
    fill: str | None = option(
        Kind.FILL,
        Group.DEPENDENTS,
        "[null|blank]",
        "Fill NULLs of the row that stays, or blanks too.",
        kept=True,
        choices=("null", "blank"),
        alone="null",
    )
    then_unique: str | None = option(
        Kind.TEXT,
        Group.DEPENDENTS,
        "NAME",
        "Add the unique index that keeps duplicates out.",
        kept=True,
        says="Then the unique index {} keeps such duplicates out.",
    )


class EmptyingOptions(Options):
    """What happens to the rows that point at a value which is cleared."""

    dependents: tuple[str, ...] = option(
        Kind.RULES,
        Group.DEPENDENTS,
        "[TABLE=]RULE",
        "declared (default: ON UPDATE), detach, stop.",
        kept=True,
        choices=("declared", "detach", "stop"),
    )


class TruncateOptions(Options):
    truncate: bool = option(
        Kind.FLAG,
        Group.RUNNING,
        "",
        "With --all-rows: the fast way, if not referenced.",
        kept=True,
        says="The table is emptied the fast way, which runs no triggers where the engine has "
        "TRUNCATE.",
    )
    restart_numbers: bool = option(
        Kind.FLAG,
        Group.RUNNING,
        "",
        "With --truncate: numbers start again.",
        kept=True,
        says="New rows of the table are numbered from the start again.",
    )


class LimitOptions(Options):
    """What stops a run, or would stop it."""

    expect: str | None = option(
        Kind.EXPECT, Group.LIMITS, "N|A..B", "How many rows must match, or be surplus.", kept=True
    )
    max_rows: int | None = option(
        Kind.COUNT,
        Group.LIMITS,
        "N",
        "The most rows that may be touched in all.",
        kept=True,
        says="It is only done if no more than {:,} rows are touched in all.",
    )
    max_share: float | None = option(
        Kind.SHARE,
        Group.LIMITS,
        "PERCENT",
        "The largest share of any table that may go.",
        kept=True,
        says="It is only done if no table loses more than {:g} % of its rows.",
    )
    strict: tuple[str, ...] = option(
        Kind.NAMES,
        Group.LIMITS,
        "[NAME]",
        "Treat cautions as errors: all, or those named.",
        kept=True,
        alone="all",
    )
    allow_trigger: tuple[str, ...] = option(
        Kind.NAMES,
        Group.LIMITS,
        "NAME",
        "A trigger that may change or delete other rows, too.",
        kept=True,
    )


class SampleOptions(Options):
    """Which matched rows are shown."""

    show: tuple[str, ...] = option(
        Kind.NAMES,
        Group.OUTPUT,
        "COLS",
        "The columns of the sample.",
        kept=True,
        typed=False,
        completes="columns",
    )
    sample: str = option(
        Kind.SAMPLE,
        Group.OUTPUT,
        "N|all",
        "How many matched rows to show.",
        default="10",
        kept=True,
        typed=False,
    )


class ListingOptions(Options):
    """Which groups of duplicates are shown."""

    groups: int = option(
        Kind.COUNT,
        Group.OUTPUT,
        "N",
        "How many groups to show.",
        default=10,
        kept=True,
        typed=False,
    )
    all_groups: bool = option(Kind.FLAG, Group.OUTPUT, "", "Show every group.", flag="--all")
    rows: int = option(
        Kind.FIRST,
        Group.OUTPUT,
        "N",
        "How many rows of a group to show.",
        default=20,
        typed=False,
    )


class RehearsalOptions(Options):
    rehearse: bool = option(
        Kind.FLAG, Group.RUNNING, "", "Do everything, show the tally, roll back."
    )


class AgreeingOptions(DatabaseOptions):
    """How a command that changes rows goes on."""

    yes: bool = option(Kind.FLAG, Group.RUNNING, "", "Do not ask.")
    confirm: str | None = option(
        Kind.TEXT, Group.RUNNING, "NAME", "The name of a protected database, typed here."
    )
    no_rollback: bool = option(
        Kind.FLAG, Group.RUNNING, "", "Triggers may write where no rollback reaches."
    )


class ConsentOptions(RehearsalOptions, AgreeingOptions):
    """The same, where it can be rehearsed."""


class RecordOptions(Options):
    archive: str | None = option(
        Kind.TEXT, Group.COPY, "DIR", "The folder of the run records; else yeldro-runs."
    )


class TableCopyOptions(Options):
    """Where copies of the rows are kept in the database itself."""

    archive_table: str | None = option(
        Kind.TEXT, Group.COPY, "NAME", "Keep the copy in new tables of the same database."
    )
    no_archive: bool = option(Kind.FLAG, Group.COPY, "", "Keep no copy of the rows.")


class ChangingOptions(ConsentOptions, RecordOptions, TableCopyOptions, CallOptions):
    """Of every command that makes rows go."""

    ask_last: bool = option(
        Kind.FLAG, Group.RUNNING, "", "Ask with the tally in hand, before the commit."
    )
    recount: bool = option(
        Kind.FLAG, Group.RUNNING, "", "Count again what the database proves, too."
    )
    then_analyze: bool = option(
        Kind.FLAG, Group.RUNNING, "", "In the end, renew the figures that the planner has."
    )
    leave_out: tuple[str, ...] = option(
        Kind.NAMES, Group.COPY, "COLS", "Columns, or TABLE.COLUMN, that the copy goes without."
    )


class SaveOptions(Options):
    """Writing down what was asked for."""

    save: str | None = option(
        Kind.TEXT, Group.OUTPUT, "FILE", "Write the same as a cleanup file, for yeldro run."
    )
    replace: bool = option(
        Kind.FLAG, Group.OUTPUT, "", "--save may write over a file; its comments stay."
    )
    seal: bool = option(
        Kind.FLAG, Group.OUTPUT, "", "Seal it: it runs only while it finds exactly these."
    )


class SizeOptions(Options):
    """Whether it is done in many transactions."""

    batch: str | None = option(
        Kind.SIZE,
        Group.BATCHES,
        "N|auto",
        "Commit after N rows, all in all; auto adapts.",
        kept=True,
        says="It goes in batches of {} rows, each committed by itself.",
    )


class MapOptions(SelectionOptions, DependentOptions, CallOptions):
    """yeldro map"""

    draw: str | None = option(
        Kind.TEXT, Group.OUTPUT, "FILE", "Draw it as a picture: FILE.svg, FILE.png or FILE.pdf."
    )


class ChosenOptions(SelectionOptions, LimitOptions, SampleOptions, SaveOptions, CallOptions):
    """What preview, delete and clear have in common: the rows, and what must be so."""


class RowsOptions(DependentOptions, TruncateOptions, ChosenOptions):
    """What preview and delete have in common beside."""


class ColumnsOptions(EmptyingOptions, ChosenOptions):
    """What is removed from rows that stay."""

    columns: tuple[str, ...] = option(
        Kind.NAMES,
        Group.ROWS,
        "COLS",
        "What is removed: the columns to clear.",
        kept=True,
        completes="columns",
    )
    to: str = option(
        Kind.CHOICE,
        Group.ROWS,
        "WHAT",
        "What they hold then:",
        default="null",
        kept=True,
        choices=("null", "blank", "default"),
    )


class DeletionStepOptions(RowsOptions, SizeOptions):
    """Of a step that deletes rows."""


class ClearingStepOptions(ColumnsOptions, SizeOptions):
    """Of a step that removes what rows hold."""


class RhythmOptions(Options):
    """How batches follow each other."""

    hold: float = option(
        Kind.SECONDS,
        Group.BATCHES,
        "SECONDS",
        "With auto: how long one may hold its locks.",
        default=0.25,
        typed=True,
    )
    pause: float = option(
        Kind.SECONDS, Group.BATCHES, "SECONDS", "Between two of them.", default=0.0, typed=True
    )
    behind: float | None = option(
        Kind.SECONDS,
        Group.BATCHES,
        "SECONDS",
        "No new one while a replica is further behind.",
        typed=True,
    )
    batches: int | None = option(Kind.FIRST, Group.BATCHES, "N", "Stop after so many of them.")
    lasting: str | None = option(
        Kind.TEXT,
        Group.BATCHES,
        "DURATION",
        "No new one after so long: 90s, 20m, 2h.",
        flag="--for",
    )
    until: str | None = option(Kind.TEXT, Group.BATCHES, "HH:MM", "No new one after this time.")


class PaceOptions(RhythmOptions):
    """The same of rows that go."""

    even_if_changed: bool = option(
        Kind.FLAG,
        Group.BATCHES,
        "",
        "Rows go by key, even if they no longer match.",
        typed=True,
    )


class BatchOptions(SizeOptions, PaceOptions):
    """In many transactions."""


class ClearOptions(ClearingStepOptions, ChangingOptions, PaceOptions):
    """yeldro clear"""


class PreviewOptions(CsvOptions, RowsOptions):
    """yeldro preview"""

    columns: tuple[str, ...] = option(
        Kind.NAMES,
        Group.ROWS,
        "COLS",
        "As clear would: remove only what these hold.",
        flag="--clear",
        typed=True,
        completes="columns",
    )
    to: str = option(
        Kind.CHOICE,
        Group.ROWS,
        "WHAT",
        "With --clear, what they hold then:",
        default="null",
        typed=True,
        choices=("null", "blank", "default"),
    )

    show_changes: bool = option(
        Kind.FLAG, Group.OUTPUT, "", "Of a sealed file: which rows came and went since."
    )
    misses: str | None = option(
        Kind.TEXT, Group.OUTPUT, "FILE", "Write the keys that have no row, or stand twice."
    )
    by_time: str | None = option(
        Kind.TEXT,
        Group.OUTPUT,
        "COL",
        "What goes and what stays by month of this column.",
        completes="columns",
    )
    forecast: bool = option(
        Kind.FLAG, Group.OUTPUT, "", "Rehearse some, roll back, and say what all would cost."
    )


class DeletionOptions(DeletionStepOptions, ChangingOptions, PaceOptions):
    """yeldro delete"""


class GroupsOptions(
    SamenessOptions, MovingOptions, LimitOptions, ListingOptions, SaveOptions, CallOptions
):
    """What duplicates and dedupe have in common."""


class DuplicatesOptions(CsvOptions, GroupsOptions):
    """yeldro duplicates"""

    decisions: str | None = option(
        Kind.TEXT, Group.OUTPUT, "FILE", "Write a CSV to decide in, row by row, for dedupe."
    )
    forecast: bool = option(
        Kind.FLAG, Group.OUTPUT, "", "Rehearse some, roll back, and say what all would cost."
    )


class GroupsStepOptions(GroupsOptions, SizeOptions):
    """Of a step that removes duplicates."""


class DedupeOptions(GroupsStepOptions, ChangingOptions, PaceOptions):
    """yeldro dedupe"""

    decisions: str | None = option(
        Kind.TEXT,
        Group.ROWS,
        "FILE",
        "What was decided row by row; --keep for the rest.",
        typed=True,
    )


class StepOptions(Options):
    """Of the commands that work on a cleanup file."""

    cleanup: str = ""
    step: tuple[str, ...] = option(
        Kind.TEXTS, Group.ROWS, "NAME", "Only this step of the file; repeat it for more."
    )
    parameters: tuple[str, ...] = option(
        Kind.TEXTS, Group.ROWS, "NAME=VALUE", "The value of a parameter of the file.", flag="-p"
    )


class RunOptions(StepOptions, ChangingOptions, PaceOptions):
    """yeldro run"""

    explain: bool = option(
        Kind.FLAG, Group.OUTPUT, "", "Say in plain sentences what the file does; run nothing."
    )
    show_changes: bool = option(
        Kind.FLAG, Group.OUTPUT, "", "Only show which rows came and went since it was sealed."
    )
    quiet: bool = option(
        Kind.FLAG, Group.OUTPUT, "", "Say nothing where nothing matched, and no preview."
    )
    log: str | None = option(
        Kind.TEXT, Group.OUTPUT, "FILE", "Add one line on how it ended to a file, or to syslog."
    )


class ScriptOptions(StepOptions, TableCopyOptions, CallOptions):
    """yeldro script"""

    dry: bool = option(Kind.FLAG, Group.RUNNING, "", "End with ROLLBACK in place of COMMIT.")
    target: str | None = option(
        Kind.CHOICE,
        Group.RUNNING,
        "ENGINE",
        "Without a database:",
        flag="--for",
        choices=("sqlserver", "oracle", "postgresql"),
    )
    schema: str | None = option(
        Kind.TEXT, Group.RUNNING, "FILE", "With --for: the CREATE TABLE statements."
    )


class KeptOptions(RecordOptions):
    """Of those that go by what a run left."""

    even_if_altered: bool = option(
        Kind.FLAG,
        Group.RUNNING,
        "",
        "The record was changed, or is in doubt: go by it.",
    )


class RestoreOptions(ConsentOptions, KeptOptions, SizeOptions, RhythmOptions):
    """yeldro restore"""

    run: str = ""
    tables: tuple[str, ...] = option(
        Kind.TEXTS,
        Group.ROWS,
        "TABLE",
        "Only the rows of this table.",
        flag="--table",
        completes="table",
    )
    keys: tuple[str, ...] = option(
        Kind.TEXTS, Group.ROWS, "VALUE", "Only this row and what depended on it.", flag="--key"
    )
    differing: str = option(
        Kind.CHOICE,
        Group.RUNNING,
        "HOW",
        "Where a key is there with other values:",
        default="stop",
        choices=("stop", "keep"),
    )
    leave_out: tuple[str, ...] = option(
        Kind.NAMES,
        Group.COPY,
        "COLS",
        "Columns, or TABLE.COLUMN, that do not come back.",
    )
    into: str | None = option(
        Kind.TEXT, Group.RUNNING, "DB", "Another database of the engine, with the tables."
    )
    allow_trigger: tuple[str, ...] = option(
        Kind.NAMES, Group.LIMITS, "NAME", "A trigger that may change or delete other rows, too."
    )


class ResumeOptions(AgreeingOptions, KeptOptions, BatchOptions):
    """yeldro resume"""

    run: str = ""
    anew: bool = option(
        Kind.FLAG,
        Group.RUNNING,
        "",
        "With the schema as it is now, if it was changed.",
    )


class HistoryOptions(CsvOptions, RecordOptions):
    """yeldro history"""

    run: str | None = None
    drop: bool = option(
        Kind.FLAG, Group.RUNNING, "", "Delete the record of RUN, or those of --older-than."
    )
    older_than: int | None = option(
        Kind.COUNT, Group.RUNNING, "DAYS", "With --drop: runs that began longer ago."
    )
    verify: bool = option(
        Kind.FLAG, Group.RUNNING, "", "Whether records are as their runs left them."
    )
    yes: bool = option(Kind.FLAG, Group.RUNNING, "", "Do not ask.")


class SurveyOptions(DatabaseOptions):
    """yeldro survey"""

    tables: tuple[str, ...] = ()
    wait: float = option(
        Kind.SECONDS,
        Group.LIMITS,
        "SECONDS",
        "How long a table may take; then a part of it.",
        default=10,
    )
    holding: str | None = option(
        Kind.TEXT, Group.ROWS, "VALUE", "Where this value stands: tables and columns."
    )
    findings: bool = option(
        Kind.FLAG, Group.OUTPUT, "", "What could be cleaned up, with the line that shows it."
    )
    by_size: bool = option(Kind.FLAG, Group.OUTPUT, "", "The tables with the most rows first.")
    whole: bool = option(
        Kind.FLAG, Group.OUTPUT, "", "Every table and every caution, however many.", flag="--all"
    )


class ReportOptions(CallOptions, RecordOptions):
    """yeldro report"""

    subject: str = ""
    parameters: tuple[str, ...] = option(
        Kind.TEXTS, Group.ROWS, "NAME=VALUE", "The value of a parameter of the file.", flag="-p"
    )
    output: str | None = option(
        Kind.TEXT, Group.OUTPUT, "FILE", "Where it goes: else RUN.html or FILE.html.", flag="-o"
    )


class ReviewOptions(CallOptions):
    """yeldro review"""

    script: str = ""
    dialect: str | None = option(
        Kind.TEXT, Group.ROWS, "NAME", "The dialect of the script: postgres, mysql, sqlite, tsql…"
    )
    save: str | None = option(
        Kind.TEXT, Group.OUTPUT, "FILE", "Write them as a cleanup file, in the order that can work."
    )
    replace: bool = option(
        Kind.FLAG, Group.OUTPUT, "", "--save may write over a file; its comments stay."
    )


COMMAND_OPTIONS: Mapping[str, type] = {
    "survey": SurveyOptions,
    "preview": PreviewOptions,
    "delete": DeletionOptions,
    "clear": ClearOptions,
    "duplicates": DuplicatesOptions,
    "dedupe": DedupeOptions,
    "run": RunOptions,
    "script": ScriptOptions,
    "restore": RestoreOptions,
    "history": HistoryOptions,
    "report": ReportOptions,
    "review": ReviewOptions,
    "map": MapOptions,
}
