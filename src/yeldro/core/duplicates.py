"""Groups of duplicates: which rows are the same, which of them stays by which rule, and what hangs on each."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum

from yeldro.core.condition import Condition, read_condition
from yeldro.core.database import Database, Row
from yeldro.core.ranking import Ranking, Rule, RuleKind
from yeldro.core.schema import Reference, Schema, Table
from yeldro.core.selection import Asked, Selection, read_selection
from yeldro.core.survey import find_distinct
from yeldro.errors import UsageError

# The largest share of surplus rows in columns that were probably meant to be unique.
_FEW = 0.2


class Nulls(StrEnum):
    """Whether rows with a NULL among the columns are the same: a UNIQUE constraint says that they differ."""

    SAME = "same"
    DIFFERENT = "different"


@dataclass(frozen=True, slots=True, eq=False)
class DuplicatesRequest:
    """`same` are the columns that make rows the same, `rules` which row of a group stays, first rule first."""

    selection: Selection
    same: tuple[str, ...]
    rules: tuple[Rule, ...]
    nulls: Nulls = Nulls.DIFFERENT
    groups: int | None = 10

    @property
    def table(self) -> Table:
        return self.selection.table


@dataclass(frozen=True, slots=True, eq=False)
class Group:
    """One group, the row that stays first. `decided` is the rule that chose it, "" where nothing but the key did.

    `differs` are the columns in which its rows are not all alike; `dependents` counts, for each row, what hangs on it,
    by reference.
    """

    rows: tuple[Row, ...]
    decided: str
    differs: tuple[str, ...]
    dependents: tuple[dict[Reference, int], ...]


@dataclass(frozen=True, slots=True, eq=False)
class Duplicates:
    """`rows` are those of all groups together, `sizes` how many groups there are of each size, `listing` the first."""

    database: str
    request: DuplicatesRequest
    groups: int
    rows: int
    sizes: tuple[tuple[int, int], ...]
    listing: tuple[Group, ...]

    @property
    def surplus(self) -> int:
        return self.rows - self.groups


@dataclass(frozen=True, slots=True)
class Proposal:
    """Columns that are unique but for a few rows: `surplus` of `rows`."""

    columns: tuple[str, ...]
    rows: int
    surplus: int


def propose_same(database: Database, table: Table) -> list[Proposal]:
    """Column sets that were probably meant to be unique, the nearest to it first."""
    rows = database.count_rows(table)
    found = find_distinct(database, table, rows, database.profile(table)) if rows else ()
    near = [Proposal(names, rows, rows - distinct) for names, distinct in found if distinct < rows]
    return sorted((one for one in near if one.surplus <= _FEW * rows), key=lambda one: one.surplus)


def read_duplicates(
    schema: Schema,
    dialect: str,
    asked: Asked,
    same: Sequence[str],
    keep: Sequence[str],
    nulls: Nulls,
    groups: int | None,
) -> DuplicatesRequest:
    """Read what was asked for; `all` for rows alike in every column. UsageError for what cannot be right."""
    selection = read_selection(asked, schema, dialect)
    table = selection.table
    if not table.identity:
        raise UsageError(f"Nothing tells the rows of {table.label} apart.", "Give it a key without NULLs.")
    rules = tuple(_read_rule(text, table, dialect) for text in keep)
    if list(same) == ["all"] and "all" not in table.column_names:
        return DuplicatesRequest(selection, table.column_names, rules, Nulls.SAME, groups)
    columns = tuple(table.find_column(name).name for name in same)
    if not columns:
        raise UsageError("--same names no column.", "It is --same COL,COL.")
    return DuplicatesRequest(selection, columns, rules, nulls, groups)


def split_rules(text: str) -> list[str]:
    """Cut `--keep` at its commas, but not within brackets or quotes: a condition may hold some."""
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


def _read_rule(text: str, table: Table, dialect: str) -> Rule:
    word, _, rest = text.partition(" ")
    rest = rest.strip()
    if word == "where" and rest:
        condition: Condition = read_condition(rest, table, dialect, {}, "--keep where")
        return Rule(text, RuleKind.WHERE, condition=condition)
    if word == "fullest" and not rest:
        return Rule(text, RuleKind.FULLEST)
    if word in (RuleKind.NEWEST, RuleKind.OLDEST, RuleKind.HIGHEST, RuleKind.LOWEST) and rest:
        return Rule(text, RuleKind(word), table.find_column(re.sub(r'^"(.*)"$', r"\1", rest)).name)
    raise UsageError(
        f"--keep {text!r} is no rule.",
        "The rules are: fullest, newest COL, oldest COL, highest COL, lowest COL, where EXPR.",
    )


def find_duplicates(database: Database, request: DuplicatesRequest, ranking: Ranking) -> Duplicates:
    """Rank the rows of every group inside the open transaction, and look at the first groups."""
    without_nulls = request.nulls is Nulls.DIFFERENT
    database.rank(ranking, request.selection, request.same, request.rules, without_nulls=without_nulls)
    groups, rows = database.count_groups(ranking)
    return Duplicates(
        database.name,
        request,
        groups,
        rows,
        tuple(database.count_sizes(ranking)),
        tuple(_list_groups(database, request, ranking)),
    )


def _list_groups(database: Database, request: DuplicatesRequest, ranking: Ranking) -> list[Group]:
    numbers = database.first_groups(ranking, request.groups)
    names = request.table.column_names
    width = len(names)
    references = [one for one in database.schema.incoming(request.table) if not one.broken]
    hanging = {reference: database.count_hanging(ranking, reference, numbers) for reference in references}
    rows: dict[int, list[Row]] = {}
    for number, _, *cells in database.ranked_rows(ranking, request.rules, numbers):
        rows.setdefault(number, []).append(tuple(cells))
    listing = []
    for number, members in rows.items():
        values = [row[width:] for row in members]
        decided = next(
            (rule.text for place, rule in enumerate(request.rules) if values[0][place] != values[1][place]), ""
        )
        differs = tuple(name for place, name in enumerate(names) if len({_cell(row[place]) for row in members}) > 1)
        dependents = tuple(
            {reference: found for reference in references if (found := hanging[reference].get((number, place), 0))}
            for place in range(1, len(members) + 1)
        )
        listing.append(Group(tuple(row[:width] for row in members), decided, differs, dependents))
    return listing


def _cell(value: object) -> tuple[str, str]:
    return type(value).__name__, str(value)
