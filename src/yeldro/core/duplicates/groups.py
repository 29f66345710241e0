"""Groups of duplicates: which rows are the same, which of them stays by which rule, and what
depends on each."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence

from msgspec import Struct, field
from msgspec.structs import replace

from yeldro.core.database.abilities import Row
from yeldro.core.database.connection import Database
from yeldro.core.database.phase import Phase
from yeldro.core.duplicates.decisions import Choices, find_choices, find_key
from yeldro.core.duplicates.request import DuplicatesRequest
from yeldro.core.model.schema import Family, Reference, Table
from yeldro.core.selection.grouping import Grouping, Ranking, Rule, RuleKind

# From how many rows on, and how many times the usual size, a group is told to be large.
_LARGE, _FAR = 20, 5


class Group(Struct, frozen=True, eq=False):
    """One group, the row that stays first. `decided` is the rule that chose it, "" where nothing
    but the key did.

    `values` are what its rows have in common, as the first of them writes it. `differs` are the
    columns in which its rows are not all alike; `dependents` counts, for each row, what depends on
    it, by reference. `choices` are, where nobody chose rules, the place of the row that each rule
    would keep.
    """

    values: tuple[object, ...]
    rows: tuple[Row, ...]
    decided: str
    differs: tuple[str, ...]
    dependents: tuple[dict[Reference, int], ...]
    choices: Mapping[str, int] = field(default_factory=dict)


class Duplicates(Struct, frozen=True, eq=False):
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
    left_alone: int = 0
    """Groups that stay as they are, because nothing was decided about them."""

    @property
    def largest(self) -> int:
        """The size of the largest group where it is far larger than the others, else 0."""
        sizes = [size for size, groups in self.sizes for _ in range(min(groups, 1000))]
        # The median and not the mean: one huge group must not make itself usual.
        usual = sizes[(len(sizes) - 1) // 2] if len(sizes) > 1 else 2
        return sizes[-1] if sizes and sizes[-1] >= max(_LARGE, _FAR * usual) else 0

    @property
    def surplus(self) -> int:
        return self.rows - self.groups


def find_duplicates(
    database: Database, request: DuplicatesRequest, ranking: Ranking, *, shown: bool = True
) -> Duplicates:
    """Rank the rows of every group inside the open transaction, and look at the first groups where
    they are `shown`."""
    grouping = request.grouping
    database.announce(Phase.GROUPING, request.table.label, None)
    database.ranking.rank(ranking)
    choices = _carry_out(database, request, ranking) if request.decisions else None
    others = choices.others if choices and not grouping.rules else 0
    if not shown:
        groups, rows = database.ranking.count_groups(ranking)
        found = Duplicates(database.name, request, groups, rows, (), (), title=database.title)
        return replace(found, left_alone=others)
    sizes = tuple(database.ranking.count_sizes(ranking))
    groups = sum(number for _, number in sizes)
    rules = grouping.rules
    if not grouping.is_decided:
        # Nobody has decided yet: what each rule would decide helps to choose one.
        rules = tuple(_possible_rules(request.table, grouping))
    decisions: Sequence[int] = ()
    if groups and rules:
        decisions = (
            database.ranking.count_decisions(ranking, rules, groups)
            if grouping.rules
            else database.ranking.count_choices(ranking, rules)
        )
    texts = grouping.exact_texts if groups else ()
    merged = zip(texts, database.ranking.count_merged(ranking, texts), strict=True)
    # Told, because somebody may have meant them to be the same.
    nulls, blanks = database.ranking.count_left_out(ranking)
    return Duplicates(
        database.name,
        request,
        groups,
        sum(size * number for size, number in sizes),
        sizes,
        tuple(_list_groups(database, request, ranking, rules if groups else ())),
        tuple(zip(rules, decisions, strict=False)),
        tuple((name, spellings) for name, spellings in merged if spellings),
        nulls,
        blanks,
        title=database.title,
        left_alone=others,
    )


def _carry_out(database: Database, request: DuplicatesRequest, ranking: Ranking) -> Choices:
    """Put the rows first that a person chose. Groups of which nothing was said are left to the
    rules, or, without any, left alone."""
    assert request.decisions
    ranked = database.ranking.ranked_rows(ranking, None)
    choices = find_choices(request.table, request.decisions, ranked)
    database.ranking.choose(ranking, choices.chosen, only=not request.grouping.rules)
    return choices


def _possible_rules(table: Table, grouping: Grouping) -> Iterator[Rule]:
    """What somebody who has not chosen yet may want: the fullest row, the latest, the highest and
    the lowest."""
    common = {part.column for part in grouping.same}
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
    numbers = database.ranking.first_groups(ranking, request.groups)
    if not numbers:
        return []
    references = [
        reference for reference in database.schema.incoming(request.table) if not reference.broken
    ]
    dependents = {
        reference: database.ranking.count_dependents(ranking, reference, numbers)
        for reference in references
    }
    choices: dict[str, Mapping[int, int]] = {}
    if not request.grouping.is_decided:
        choices = {
            rule.text: database.ranking.find_choices(ranking, rule, numbers) for rule in rules
        }
    rows: dict[int, list[Row]] = {number: [] for number in numbers}
    for number, _, *cells in database.ranking.ranked_rows(ranking, numbers):
        rows[number].append(tuple(cells))
    return [
        _make_group(
            request,
            members,
            [_find_dependents(dependents, number, place) for place, _ in enumerate(members, 1)],
            {text: chosen[number] for text, chosen in choices.items()},
        )
        for number, members in rows.items()
    ]


def _find_dependents(
    dependents: Mapping[Reference, Mapping[tuple[int, int], int]], number: int, place: int
) -> dict[Reference, int]:
    """What depends on the row at a place of a group, by reference."""
    found = {one: counts.get((number, place), 0) for one, counts in dependents.items()}
    return {one: rows for one, rows in found.items() if rows}


def _make_group(
    request: DuplicatesRequest,
    members: Sequence[Row],
    dependents: Sequence[dict[Reference, int]],
    choices: Mapping[str, int],
) -> Group:
    """A group from its ranked rows: the columns of the table, what makes them the same, and the
    value of each rule."""
    grouping, names = request.grouping, request.table.column_names
    width = len(names) + len(grouping.same)
    first, second = members[0][width:], members[1][width:]
    deciding = [rule for place, rule in enumerate(grouping.rules) if first[place] != second[place]]
    differs = [
        name
        for place, name in enumerate(names)
        if len({_make_cell(row[place]) for row in members}) > 1
    ]
    common = []
    for place, one in enumerate(grouping.same):
        at = names.index(one.column) if one.column else len(names) + place
        common.append(members[0][at])
    rows = tuple(row[: len(names)] for row in members)
    decided = deciding[0].text if deciding else ""
    if request.decisions and find_key(request.table, rows[0]) in request.decisions.lines:
        decided = request.decisions.source
    return Group(
        tuple(common),
        rows,
        decided,
        tuple(differs),
        tuple(dependents),
        choices,
    )


def _make_cell(value: object) -> tuple[str, str]:
    return type(value).__name__, str(value)
