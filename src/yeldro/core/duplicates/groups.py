"""Groups of duplicates: which rows are the same, which of them stays by which rule, and what hangs
on each."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from enum import StrEnum

from yeldro.core.database.connection import Database, Row
from yeldro.core.model.schema import Family, Reference, Schema, Table
from yeldro.core.reach.search import MOVING, Rules
from yeldro.core.selection.condition import Condition, read_condition
from yeldro.core.selection.grouping import Grouping, Ignored, Ranking, Rule, RuleKind, Same
from yeldro.core.selection.guards import Guards
from yeldro.core.selection.selection import Asked, read_selection
from yeldro.core.survey.survey import find_distinct
from yeldro.errors import UsageError

KEEPING = ("fullest", "newest COL", "oldest COL", "highest COL", "lowest COL", "where EXPR")
# The largest share of surplus rows in columns that were probably meant to be unique.
_FEW = 0.2
# From how many rows on, and how many times the usual size, a group is told to be large.
_LARGE, _FAR = 20, 5


class Nulls(StrEnum):
    """Whether rows with a NULL among the columns are the same: a UNIQUE constraint says that they
    differ."""

    SAME = "same"
    DIFFERENT = "different"


class Filling(StrEnum):
    """What of a kept row is filled from its surplus rows: its NULLs, or its empty texts too."""

    NULLS = "null"
    BLANKS = "blank"


@dataclass(frozen=True, slots=True, eq=False)
class DuplicatesRequest:
    """Which duplicates are looked for, and what is to happen to them: `dependents` are the rules
    for what hangs on the surplus rows. `groups` (None: all) only decides how many are shown."""

    grouping: Grouping
    groups: int | None = 10
    dependents: Rules = MOVING
    guards: Guards = field(default_factory=Guards)
    filling: Filling | None = None
    unique_name: str = ""

    @property
    def table(self) -> Table:
        return self.grouping.table


@dataclass(frozen=True, slots=True, eq=False)
class Group:
    """One group, the row that stays first. `decided` is the rule that chose it, "" where nothing
    but the key did.

    `values` are what its rows have in common, as the first of them writes it. `differs` are the
    columns in which its rows are not all alike; `dependents` counts, for each row, what hangs on
    it, by reference. `choices` are, where nobody chose rules, the place of the row that each rule
    would keep.
    """

    values: tuple[object, ...]
    rows: tuple[Row, ...]
    decided: str
    differs: tuple[str, ...]
    dependents: tuple[dict[Reference, int], ...]
    choices: Mapping[str, int] = field(default_factory=dict)


@dataclass(frozen=True, slots=True, eq=False)
class Duplicates:
    """`rows` are those of all groups together, `sizes` how many groups there are of each size,
    `listing` the first.

    `decisions` says of each rule in how many groups it decides: of those that were asked for, each
    where the rules before it left several rows; else of those that could be. `merged` counts the
    groups in which a column's collation makes several spellings one. `nulls` and `blanks` are rows
    that are looked at and left out, because they hold a NULL, or else a blank text, in what would
    make them the same.
    """

    database: str
    request: DuplicatesRequest
    groups: int
    rows: int
    sizes: tuple[tuple[int, int], ...]
    listing: tuple[Group, ...]
    decisions: tuple[tuple[Rule, int], ...] = ()
    merged: tuple[tuple[str, int], ...] = ()
    nulls: int = 0
    blanks: int = 0
    title: str = ""

    @property
    def largest(self) -> int:
        """The size of the largest group where it is far larger than the others, else 0."""
        sizes = [size for size, groups in self.sizes for _ in range(min(groups, 1000))]
        usual = sizes[(len(sizes) - 1) // 2] if len(sizes) > 1 else 2
        return sizes[-1] if sizes and sizes[-1] >= max(_LARGE, _FAR * usual) else 0

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
            f"--ignore {text!r} is nothing that can be ignored.",
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
        raise UsageError(f"--keep {text!r} is no rule.", f"The rules are: {', '.join(KEEPING)}.")
    kind, rest = cut
    match kind:
        case RuleKind.WHERE:
            condition: Condition = read_condition(rest, table, dialect, {}, "--keep where")
            return Rule(text, kind, condition=condition)
        case RuleKind.FULLEST:
            return Rule(text, kind)
        case _:
            return Rule(text, kind, table.find_column(re.sub(r'^"(.*)"$', r"\1", rest)).name)


def find_duplicates(
    database: Database, request: DuplicatesRequest, ranking: Ranking, *, shown: bool = True
) -> Duplicates:
    """Rank the rows of every group inside the open transaction, and look at the first groups where
    they are `shown`."""
    grouping = request.grouping
    database.rank(ranking)
    groups, rows = database.count_groups(ranking)
    if not shown:
        return Duplicates(database.name, request, groups, rows, (), (), title=database.title)
    rules = (
        grouping.rules if grouping.is_decided else tuple(_possible_rules(request.table, grouping))
    )
    decisions: Sequence[int] = []
    if groups and rules:
        decisions = (database.count_decisions if grouping.rules else database.count_choices)(
            ranking, rules
        )
    texts = grouping.exact_texts if groups else ()
    merged = zip(texts, database.count_merged(ranking, texts), strict=True)
    return Duplicates(
        database.name,
        request,
        groups,
        rows,
        tuple(database.count_sizes(ranking)),
        tuple(_list_groups(database, request, ranking, rules if groups else ())),
        tuple(zip(rules, decisions, strict=False)),
        tuple((name, found) for name, found in merged if found),
        *database.count_left_out(ranking),
        title=database.title,
    )


def _possible_rules(table: Table, grouping: Grouping) -> Iterator[Rule]:
    """What somebody who has not chosen yet may want: the fullest row, the latest, the highest and
    the lowest."""
    common = {one.column for one in grouping.same}
    yield Rule("fullest", RuleKind.FULLEST)
    free = [column for column in table.columns if column.name not in common]
    linking = {name for key in table.lasting_keys[:1] for name in key}
    for column in free:
        if column.family in (Family.DATE, Family.TIMESTAMP):
            yield from (
                Rule(f"{kind} {column.name}", kind, column.name)
                for kind in (RuleKind.NEWEST, RuleKind.OLDEST)
            )
        elif column.family in (Family.INTEGER, Family.NUMBER) and column.name not in linking:
            yield from (
                Rule(f"{kind} {column.name}", kind, column.name)
                for kind in (RuleKind.HIGHEST, RuleKind.LOWEST)
            )


def _list_groups(
    database: Database, request: DuplicatesRequest, ranking: Ranking, rules: Sequence[Rule]
) -> list[Group]:
    numbers = database.first_groups(ranking, request.groups)
    if not numbers:
        return []
    grouping, names = request.grouping, request.table.column_names
    width = len(names) + len(grouping.same)
    references = [one for one in database.schema.incoming(request.table) if not one.broken]
    hanging = {
        reference: database.count_hanging(ranking, reference, numbers) for reference in references
    }
    choices = (
        {}
        if grouping.is_decided
        else {rule.text: database.find_choices(ranking, rule, numbers) for rule in rules}
    )
    rows: dict[int, list[Row]] = {number: [] for number in numbers}
    for number, _, *cells in database.ranked_rows(ranking, numbers):
        rows[number].append(tuple(cells))
    listing = []
    for number, members in rows.items():
        values = [row[width:] for row in members]
        decided = next(
            (
                rule.text
                for place, rule in enumerate(grouping.rules)
                if values[0][place] != values[1][place]
            ),
            "",
        )
        differs = tuple(
            name
            for place, name in enumerate(names)
            if len({_cell(row[place]) for row in members}) > 1
        )
        dependents = tuple(
            {
                reference: found
                for reference in references
                if (found := hanging[reference].get((number, place), 0))
            }
            for place in range(1, len(members) + 1)
        )
        first = members[0]
        common = tuple(
            first[names.index(one.column) if one.column else len(names) + place]
            for place, one in enumerate(grouping.same)
        )
        chosen = {text: found[number] for text, found in choices.items()}
        listing.append(
            Group(
                common,
                tuple(row[: len(names)] for row in members),
                decided,
                differs,
                dependents,
                chosen,
            )
        )
    return listing


def _cell(value: object) -> tuple[str, str]:
    return type(value).__name__, str(value)
