"""Which duplicates are looked for: what makes rows the same, which of them stays, what happens to
the rest."""

from __future__ import annotations

import re
from collections.abc import Sequence
from enum import StrEnum

from msgspec import Struct, field

from yeldro.core.duplicates.decisions import Decisions
from yeldro.core.model.schema import Family, Schema, Table
from yeldro.core.reach.rules import MOVING, Rules
from yeldro.core.selection.condition import Condition, read_condition
from yeldro.core.selection.grouping import Grouping, Ignored, Rule, RuleKind, Same
from yeldro.core.selection.guards import Guards
from yeldro.core.selection.selection import Asked, read_selection
from yeldro.errors import UsageError

KEEPING = ("fullest", "newest COL", "oldest COL", "highest COL", "lowest COL", "where EXPR")


class Nulls(StrEnum):
    """Whether rows with a NULL among the columns are the same: a UNIQUE constraint says that they
    differ."""

    SAME = "same"
    DIFFERENT = "different"


class Filling(StrEnum):
    """What of a kept row is filled from its surplus rows: its NULLs, or its empty texts too."""

    NULLS = "null"
    BLANKS = "blank"


class DuplicatesRequest(Struct, frozen=True, eq=False):
    """Which duplicates are looked for, and what is to happen to them: `dependents` are the rules
    for what depends on the surplus rows, `decisions` what a person decided row by row. `groups`
    (None: all) and `shown_rows` of each only decide how many are shown."""

    grouping: Grouping
    groups: int | None = 10
    dependents: Rules = MOVING
    guards: Guards = field(default_factory=Guards)
    filling: Filling | None = None
    unique_name: str = ""
    decisions: Decisions | None = None
    shown_rows: int = 20

    @property
    def table(self) -> Table:
        return self.grouping.table


def read_duplicates(
    schema: Schema,
    dialect: str,
    asked: Asked,
    same: Sequence[str],
    keep: Sequence[str] = (),
    nulls: Nulls = Nulls.DIFFERENT,
    ignore: Sequence[str] = (),
) -> Grouping:
    """Read what was asked for; `all` for rows alike in every column. UsageError for what cannot be
    right."""
    selection = read_selection(asked, schema, dialect)
    table = selection.table
    if table.shares_identity and schema.incoming(table):
        raise UsageError(
            f"Nothing tells the rows of {table.label} apart, and others reference them.",
            "Give it a key without NULLs.",
        )
    if selection.view:
        raise UsageError(f"{asked.table} is a view.", f"Name the table itself: {table.label}.")
    ignored = frozenset(map(_read_ignored, ignore))
    if list(same) == ["all"] and "all" not in table.column_names:
        same, nulls = table.column_names, Nulls.SAME
        parts = [_read_column(name, table, ignored) for name in same]
    else:
        parts = [_read_same(text, table, dialect, ignored) for text in same]
    if not parts:
        raise UsageError("--same names no column.", "It is --same COL,COL.")
    rules = tuple(_read_rule(text, table, dialect) for text in keep)
    return Grouping(selection, tuple(parts), rules, nulls is Nulls.DIFFERENT)


def _read_ignored(text: str) -> Ignored:
    if text not in list(Ignored):
        raise UsageError(
            f"--ignore {text!r} cannot be ignored.",
            f"There are: {', '.join(Ignored)}.",
        )
    return Ignored(text)


def _read_column(name: str, table: Table, ignored: frozenset[Ignored]) -> Same:
    is_text = table.column(name).family is Family.TEXT
    return Same(name, name, ignored=ignored if is_text else frozenset())


def _read_same(text: str, table: Table, dialect: str, ignored: frozenset[Ignored]) -> Same:
    """A column by its name, else an expression over the table's columns."""
    name = re.sub(r'^"(.*)"$', r"\1", text)
    if name in table.column_names or re.fullmatch(r"\w+", name):
        return _read_column(table.find_column(name).name, table, ignored)
    expression = read_condition(text, table, dialect, {}, "--same")
    if not expression.columns:
        raise UsageError(f"--same {text!r} names no column of {table.label}.")
    return Same(text, expression=expression, ignored=ignored)


def split_list(text: str) -> list[str]:
    """Cut an option at its commas, but not within brackets or quotes: an expression may hold
    some.
    """
    parts, depth, quote = [""], 0, ""
    for letter in text:
        if quote:
            quote = "" if letter == quote else quote
        elif letter in "'\"`":
            quote = letter
        depth += 0 if quote else (letter == "(") - (letter == ")")
        if letter == "," and not quote and not depth:
            parts.append("")
        else:
            parts[-1] += letter
    return [part.strip() for part in parts if part.strip()]


def cut_rule(text: str) -> tuple[RuleKind, str] | None:
    """The kind of a rule, and the column or the condition that it names. None where it is no
    rule.
    """
    word, _, rest = text.partition(" ")
    known = word in list(RuleKind) and (word == RuleKind.FULLEST) != bool(rest.strip())
    return (RuleKind(word), rest.strip()) if known else None


def _read_rule(text: str, table: Table, dialect: str) -> Rule:
    cut = cut_rule(text)
    if cut is None:
        raise UsageError(f"--keep {text!r} is not a rule.", f"The rules are: {', '.join(KEEPING)}.")
    kind, rest = cut
    match kind:
        case RuleKind.WHERE:
            condition: Condition = read_condition(rest, table, dialect, {}, "--keep where")
            return Rule(text, kind, condition=condition)
        case RuleKind.FULLEST:
            return Rule(text, kind)
        case _:
            return Rule(text, kind, table.find_column(re.sub(r'^"(.*)"$', r"\1", rest)).name)
