"""Ranking duplicates: the statements, and how every engine sends them.

A ranking is a temporary table with the columns c0, c1, … (the identity), `grp`, `place` and `size`.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Iterator, Sequence
from typing import Any

import sqlalchemy as sa

from yeldro.core.database.abilities import Row
from yeldro.core.model.key_set import KeySet, StoredKeys
from yeldro.core.model.schema import Family, Reference, Table
from yeldro.core.selection.grouping import Grouping, Ranking, Rule, RuleKind, Same
from yeldro.engines.shared.held import HeldTable
from yeldro.engines.shared.part import SqlPart
from yeldro.engines.shared.statements import Rows, Words, balanced, bare
from yeldro.errors import BadStatement, UsageError

_OWN = ("grp", "place", "size")
_ONE: sa.ColumnElement[int] = sa.literal_column("1")


class SqlRanking(SqlPart, ABC):
    """The part of a connection that finds duplicates."""

    def make_ranking(self, grouping: Grouping) -> Ranking:
        ranking = Ranking(
            grouping,
            self._names.of(grouping.table),
            tuple(self._make_plain(grouping, part) for part in grouping.loose),
        )
        columns = [
            cell.label(f"c{place}") for place, cell in enumerate(self._identity(ranking.table))
        ]
        numbers = [sa.cast(sa.literal_column("0"), sa.BigInteger).label(name) for name in _OWN]
        empty = sa.select(*columns, *numbers).where(sa.false())
        if not isinstance(self._clause(ranking), HeldTable):
            self._make_ranking_table(ranking.name, empty, shared=ranking.table.shares_identity)
        return ranking

    def _make_ranking_table(self, name: str, empty: Rows, *, shared: bool) -> None:
        """`shared`: several rows may have one identity."""
        self._gate.make(name, Words("CREATE TEMPORARY TABLE", sa.table(name), "AS", bare(empty)))

    def _identity(self, table: Table) -> list[sa.ColumnElement[Any]]:
        """What fixes one row; where nothing does, what rows that are alike have in common."""
        clause = self._statements.table(table)
        return [clause.c[name] for name in table.identity]

    # Texts of which something is ignored

    @abstractmethod
    def _make_plain(self, grouping: Grouping, same: Same) -> str:
        """Make whatever `_plain_text` needs for one part, and return its name."""

    @abstractmethod
    def _plain_text(
        self, grouping: Grouping, same: Same, cell: sa.ColumnElement[Any], name: str
    ) -> sa.ColumnElement[Any]:
        """A text without what is ignored. Where the engine needs help, `name` holds the plain forms
        of texts."""

    def _spell(self, ranking: Ranking) -> None:
        """An engine that cannot ignore what it should gets the plain forms of the texts from
        here.
        """

    # Ranking

    def rank(self, ranking: Ranking) -> int:
        try:
            self._spell(ranking)
            statement, table = self._rank(ranking), self._clause(ranking)
            return (
                self._database.hold(table, statement)
                if isinstance(table, HeldTable)
                else self._gate.run(statement).rowcount
            )
        except BadStatement as error:
            raise UsageError(f"The database cannot rank the rows: {error.message}") from error

    def _looked(
        self, ranking: Ranking, rules: Sequence[Rule], *, all_columns: bool = False
    ) -> Rows:
        """The rows that are looked at: their identity as c0, …, what makes them the same as s0, …,
        what the rules look at as v0, …, what breaks ties as t0, …; with `all_columns` all others as
        x0, …, and not only the selected rows.
        """
        grouping = ranking.grouping
        clause = self._statements.table(ranking.table)
        identity = [
            cell.label(f"c{place}") for place, cell in enumerate(self._identity(ranking.table))
        ]
        same = [cell.label(f"s{place}") for place, cell in enumerate(self._same(ranking))]
        looks = [
            self._value(ranking.table, rule).label(f"v{place}") for place, rule in enumerate(rules)
        ]
        looks += [
            clause.c[name].label(f"t{place}")
            for place, name in enumerate(ranking.table.tie_breakers)
        ]
        if all_columns:
            cells = [
                clause.c[name].label(f"x{place}")
                for place, name in enumerate(ranking.table.column_names)
            ]
            return sa.select(*identity, *same, *looks, *cells)
        # Rows that equal nothing are left out before anything is sorted.
        wanted = self._statements.is_selected(grouping.selection)
        filled: list[sa.ColumnElement[bool]] = []
        for cell, text in self._common(ranking) if grouping.nulls_differ else ():
            filled.append(cell.is_not(None))
            filled += [] if text is None else [sa.not_(self._is_blank_text(text))]
        return sa.select(*identity, *same, *looks).where(*wanted, *filled)

    def _common(
        self, ranking: Ranking
    ) -> list[tuple[sa.ColumnElement[Any], sa.ColumnElement[Any] | None]]:
        """Each part of what makes rows the same, and it as it stands where it may be a text: a NULL
        and a blank text equal nothing."""
        clause = self._statements.table(ranking.table)
        found: list[tuple[sa.ColumnElement[Any], sa.ColumnElement[Any] | None]] = []
        for one, cell in zip(ranking.grouping.same, self._same(ranking), strict=True):
            raw = (
                self._statements.fragment(one.expression)
                if one.expression
                else clause.c[one.column]
            )
            family = ranking.table.column(one.column).family if one.column else Family.OTHER
            found.append((cell, raw if family in (Family.TEXT, Family.OTHER) else None))
        return found

    def count_left_out(self, ranking: Ranking) -> tuple[int, int]:
        if not ranking.grouping.nulls_differ:
            return 0, 0
        common = self._common(ranking)
        texts = [text for _, text in common if text is not None]
        is_null = sa.or_(*(cell.is_(None) for cell, _ in common))
        is_blank = sa.or_(sa.false(), *(self._is_blank_text(text) for text in texts))
        cases = [is_null, sa.and_(sa.not_(is_null), is_blank)]
        counts = [sa.func.count(sa.case((case, _ONE))) for case in cases]
        rows = sa.select(*counts).select_from(self._statements.table(ranking.table))
        # Of nearly all rows no more than the first letters are looked at.
        suspects = sa.or_(is_null, *(self._starts_white(text) for text in texts))
        wanted = self._statements.is_selected(ranking.grouping.selection)
        nulls, blanks = map(int, self._gate.run(rows.where(*wanted, suspects)).one())
        return nulls, blanks

    def _is_blank_text(self, cell: sa.ColumnElement[Any]) -> sa.ColumnElement[bool]:
        """The same, fast: of hardly any text more than the first letter is looked at."""
        return sa.and_(self._starts_white(cell), self.is_white(cell))

    @abstractmethod
    def _starts_white(self, cell: sa.ColumnElement[Any]) -> sa.ColumnElement[bool]:
        """Whether a text may begin with white space, or be empty; not where it begins with a sign
        of ASCII that one can see."""

    @abstractmethod
    def is_white(self, cell: sa.ColumnElement[Any]) -> sa.ColumnElement[bool]:
        """Whether a text is empty, or holds nothing but white space."""

    def _same(self, ranking: Ranking) -> list[sa.ColumnElement[Any]]:
        clause, plain = self._statements.table(ranking.table), iter(ranking.plain)
        cells: list[sa.ColumnElement[Any]] = []
        for one in ranking.grouping.same:
            cell = (
                self._statements.fragment(one.expression)
                if one.expression
                else clause.c[one.column]
            )
            cells.append(
                self._plain_text(ranking.grouping, one, cell, next(plain)) if one.ignored else cell
            )
        return cells

    def _rank(self, ranking: Ranking) -> sa.Insert:
        target = self._clause(ranking)
        ranked = (
            self._by_lists(ranking) if self._gathers(ranking.table) else self._by_windows(ranking)
        )
        return sa.insert(target).from_select(target.c.keys(), ranked)

    @abstractmethod
    def _gathers(self, table: Table) -> bool:
        """Whether `_members` is possible."""

    @abstractmethod
    def _members(self, ranking: Ranking) -> tuple[sa.FromClause, list[sa.ColumnElement[Any]]]:
        """The rows of groups of several, with as little sorting as the engine can: their identity
        of one column, the number of the group, and its size; and the place by the identity where
        the engine comes by it without sorting."""

    def _gathered(
        self, ranking: Ranking, gather: Callable[[Any], sa.ColumnElement[Any]]
    ) -> sa.Subquery:
        """Groups of several, with the identities of all their rows in one value."""
        same = self._looked(ranking, ()).subquery(self._statements.own("same"))
        shared = [same.c[f"s{place}"] for place in range(len(ranking.grouping.same))]
        number, size = sa.func.row_number().over().label("grp"), sa.func.count().label("size")
        groups = sa.select(gather(same.c.c0).label("ids"), size, number).group_by(*shared)
        return groups.having(sa.func.count() > _ONE).subquery(self._statements.own("groups"))

    def _by_lists(self, ranking: Ranking) -> Rows:
        """Only rows that have duplicates are ordered, by the number of their group."""
        rules = [
            rule for rule in ranking.grouping.rules if not _is_by_identity(rule, ranking.table)
        ]
        # Most rows have no duplicate. Only those of groups are joined with their values and sorted.
        source, (own, group, size, *known) = self._members(ranking)
        order: list[sa.ColumnElement[Any]] = []
        if rules or ranking.table.tie_breakers:
            rows = self._looked(ranking, rules, all_columns=True).subquery(
                self._statements.own("values")
            )
            source = source.join(rows, rows.c.c0 == own)
            order = _orders(ranking.table, rules, rows)
        place = sa.func.row_number().over(partition_by=group, order_by=[*order, own])
        if known and not order:
            return sa.select(own, group, known[0], size).select_from(source)
        return sa.select(own, group, place, size).select_from(source)

    def _by_windows(self, ranking: Ranking) -> Rows:
        """Every row is ordered within what it has in common with others."""
        grouping = ranking.grouping
        rows = self._looked(ranking, grouping.rules).subquery(self._statements.own("rows"))
        shared = [rows.c[f"s{place}"] for place in range(len(grouping.same))]
        order = _orders(ranking.table, grouping.rules, rows)
        identity = [rows.c[name] for name in _cells(ranking)]
        ranked = sa.select(
            *identity,
            sa.func.dense_rank().over(order_by=shared).label("grp"),
            sa.func.row_number()
            .over(partition_by=shared, order_by=[*order, *identity])
            .label("place"),
            sa.func.count().over(partition_by=shared).label("size"),
        ).subquery(self._statements.own("ranked"))
        return sa.select(*ranked.c).where(ranked.c.size > _ONE)

    def _clause(self, ranking: Ranking) -> sa.TableClause:
        names = [*_cells(ranking), *_OWN]
        if self._statements.holding:
            own = dict(zip(_cells(ranking), ranking.table.identity, strict=True))
            number = self._statements.holding.number
            made_of = {
                name: self._statements.origin(ranking.table, place) for name, place in own.items()
            }
            return self._statements.hold(ranking.name, {**made_of, **dict.fromkeys(_OWN, number)})
        columns: list[sa.ColumnClause[Any]] = [sa.column(name) for name in names]
        return sa.table(ranking.name, *columns, schema=self._statements.key_schema)

    def _value(self, table: Table, rule: Rule) -> sa.ColumnElement[Any]:
        """What a rule looks at: smaller is better but where the rule itself says otherwise."""
        clause = self._statements.table(table)
        if rule.kind is RuleKind.FULLEST:
            empty: list[sa.ColumnElement[int]] = [
                sa.case((self._is_blank(clause.c[column.name], column.family), 1), else_=0)
                for column in table.columns
            ]
            return balanced("+", empty)
        if rule.condition:
            return sa.case((self._statements.fragment(rule.condition), 0), else_=1)
        return clause.c[rule.column]

    def _is_blank(self, cell: sa.ColumnElement[Any], family: Family) -> sa.ColumnElement[bool]:
        nothing = cell.is_(None)
        return sa.or_(nothing, self._is_blank_text(cell)) if family is Family.TEXT else nothing

    # Looking at groups

    def choose(self, ranking: Ranking, chosen: Sequence[tuple[int, int]], *, only: bool) -> None:
        ranked = self._clause(ranking)
        for group, place in chosen:
            # By way of a place that there is not, because two rows of a group never have the same.
            for old, new in ((1, 0), (place, 1), (0, place)) if place > 1 else ():
                moved = sa.update(ranked).values(place=new)
                self._gate.run(moved.where(ranked.c.grp == group, ranked.c.place == old))
        if only:
            # What was decided is turned over for as long as the rest is taken out.
            turned = sa.update(ranked).values(grp=-ranked.c.grp)
            for group, _ in chosen:
                self._gate.run(turned.where(ranked.c.grp == group))
            self._gate.run(sa.delete(ranked).where(ranked.c.grp > 0))
            self._gate.run(turned)

    def count_groups(self, ranking: Ranking) -> tuple[int, int]:
        ranked = self._clause(ranking)
        first = sa.func.count(sa.case((ranked.c.place == _ONE, 1)))
        groups, rows = tuple(
            self._gate.run(sa.select(first, sa.func.count()).select_from(ranked)).one()
        )
        return int(groups), int(rows)

    def count_left_groups(self, ranking: Ranking) -> int:
        same = self._looked(ranking, ()).subquery(self._statements.own("same"))
        shared = [same.c[f"s{place}"] for place in range(len(ranking.grouping.same))]
        groups = (
            sa.select(_ONE.label("one"))
            .select_from(same)
            .group_by(*shared)
            .having(sa.func.count() > _ONE)
        )
        return self._gate.number(
            sa.select(sa.func.count()).select_from(groups.subquery(self._statements.own("groups")))
        )

    def count_sizes(self, ranking: Ranking) -> list[tuple[int, int]]:
        ranked = self._clause(ranking)
        sizes = sa.select(ranked.c.size, sa.func.count()).where(ranked.c.place == _ONE)
        found = self._gate.run(sizes.group_by(ranked.c.size).order_by(ranked.c.size))
        return [(int(size), int(groups)) for size, groups in map(tuple, found)]

    def count_decisions(self, ranking: Ranking, rules: Sequence[Rule], groups: int) -> list[int]:
        """By the first row of each group and the second one. What goes by the identity always
        decides."""
        # No two rows have the same identity, so later rules never come into it.
        if _is_by_identity(rules[0], ranking.table):
            return [groups, *(0 for _ in rules[1:])]
        first, second = (
            self._clause(ranking).alias(self._statements.own("first")),
            self._clause(ranking).alias(self._statements.own("second")),
        )
        one, two = (
            self._looked(ranking, rules, all_columns=True).subquery(
                self._statements.own(f"{name}_row")
            )
            for name in "ab"
        )
        both = first.join(
            second, sa.and_(first.c.grp == second.c.grp, second.c.place == sa.literal_column("2"))
        )
        both = both.join(one, self._is_row(ranking, first, one)).join(
            two, self._is_row(ranking, second, two)
        )
        counts = []
        even: sa.ColumnElement[bool] = sa.true()
        for place in range(len(rules)):
            # A rule decides a group where all rules before it left the first two rows even.
            same = one.c[f"v{place}"].is_not_distinct_from(two.c[f"v{place}"])
            counts.append(sa.func.count(sa.case((sa.and_(even, sa.not_(same)), _ONE))))
            even = sa.and_(even, same)
        found = self._gate.run(
            sa.select(*counts).select_from(both).where(first.c.place == _ONE)
        ).one()
        return [int(number) for number in found]

    def count_choices(self, ranking: Ranking, rules: Sequence[Rule]) -> list[int]:
        ranked, rows = (
            self._clause(ranking),
            self._looked(ranking, rules, all_columns=True).subquery(self._statements.own("rows")),
        )
        values = [rows.c[f"v{place}"] for place in range(len(rules))]
        differ = [
            sa.case(
                (
                    sa.or_(
                        sa.func.min(value) != sa.func.max(value),
                        sa.func.count() != sa.func.count(value),
                    ),
                    _ONE,
                ),
                else_=sa.literal_column("0"),
            ).label(f"d{place}")
            for place, value in enumerate(values)
        ]
        # Where a column holds no value at all in a group, a rule has nothing to go by.
        some = [sa.func.count(value).label(f"f{place}") for place, value in enumerate(values)]
        groups = sa.select(*differ, *some).select_from(
            ranked.join(rows, self._is_row(ranking, ranked, rows))
        )
        found = groups.group_by(ranked.c.grp).subquery(self._statements.own("found"))
        zero: sa.ColumnElement[int] = sa.literal_column("0")
        counts = [
            sa.func.count(
                sa.case((sa.and_(found.c[f"d{place}"] == _ONE, found.c[f"f{place}"] > zero), _ONE))
            )
            for place in range(len(rules))
        ]
        return [int(number) for number in self._gate.run(sa.select(*counts)).one()]

    def find_choices(self, ranking: Ranking, rule: Rule, groups: Sequence[int]) -> dict[int, int]:
        ranked, rows = (
            self._clause(ranking),
            self._looked(ranking, [rule], all_columns=True).subquery(self._statements.own("rows")),
        )
        order = [*_order(rule, rows.c.v0), ranked.c.place]
        best = sa.func.row_number().over(partition_by=ranked.c.grp, order_by=order).label("best")
        both = ranked.join(rows, self._is_row(ranking, ranked, rows))
        chosen = _among(
            sa.select(ranked.c.grp, ranked.c.place, best).select_from(both), ranked, groups
        ).subquery()
        found = self._gate.run(sa.select(chosen.c.grp, chosen.c.place).where(chosen.c.best == _ONE))
        return {int(group): int(place) for group, place in map(tuple, found)}

    @abstractmethod
    def _may_merge(self, table: Table, column: str) -> bool:
        """Whether the collation of a column may make texts equal that differ."""

    def count_merged(self, ranking: Ranking, columns: Sequence[str]) -> list[int]:
        may = [name for name in columns if self._may_merge(ranking.table, name)]
        if not may:
            return [0 for _ in columns]
        ranked, clause = self._clause(ranking), self._statements.table(ranking.table)
        ends = [
            (func, self._statements.exact(clause.c[name]))
            for name in may
            for func in (sa.func.min, sa.func.max)
        ]
        rows = sa.select(
            *(func(cell).label(f"e{place}") for place, (func, cell) in enumerate(ends))
        )
        rows = rows.select_from(ranked.join(clause, self._is_own_row(ranking, ranked)))
        groups = rows.group_by(ranked.c.grp).subquery(self._statements.own("groups"))
        differs = [
            groups.c[f"e{2 * place}"] != groups.c[f"e{2 * place + 1}"] for place in range(len(may))
        ]
        found = self._gate.run(
            sa.select(*(sa.func.count(sa.case((one, _ONE))) for one in differs))
        ).one()
        merged = dict(zip(may, map(int, found), strict=True))
        return [merged.get(name, 0) for name in columns]

    def first_groups(self, ranking: Ranking, limit: int | None) -> list[int]:
        ranked = self._clause(ranking)
        identity = [ranked.c[name] for name in _cells(ranking)]
        numbers = sa.select(ranked.c.grp).where(ranked.c.place == _ONE).order_by(*identity)
        return [int(row[0]) for row in self._gate.run(numbers.limit(limit))]

    def ranked_rows(self, ranking: Ranking, groups: Sequence[int] | None) -> Iterator[Row]:
        grouping, ranked = ranking.grouping, self._clause(ranking)
        rows = self._looked(ranking, grouping.rules, all_columns=True).subquery(
            self._statements.own("rows")
        )
        names = [
            *(f"x{place}" for place in range(len(ranking.table.columns))),
            *(f"s{place}" for place in range(len(grouping.same))),
            *(f"v{place}" for place in range(len(grouping.rules))),
        ]
        wanted: Rows = sa.select(ranked.c.grp, ranked.c.place, *(rows.c[name] for name in names))
        wanted = wanted.select_from(ranked.join(rows, self._is_row(ranking, ranked, rows)))
        wanted = wanted if groups is None else _among(wanted, ranked, groups)
        if ranking.table.shares_identity:
            wanted = wanted.distinct()  # rows that are alike meet each other
        return self._gate.stream(wanted.order_by(ranked.c.grp, ranked.c.place))

    def count_dependents(
        self, ranking: Ranking, reference: Reference, groups: Sequence[int]
    ) -> dict[tuple[int, int], int]:
        ranked, child = (
            self._clause(ranking),
            self._statements.table(reference.child).alias(self._statements.own("child")),
        )
        clause = self._statements.table(ranking.table)
        referred = [clause.c[name] for name in reference.referred]
        pointing = sa.and_(
            *self._statements.meets(
                reference, self._statements.pointing(reference, child), referred
            )
        )
        both = ranked.join(clause, self._is_own_row(ranking, ranked)).join(child, pointing)
        rows: Rows = sa.select(ranked.c.grp, ranked.c.place, sa.func.count()).select_from(both)
        found = self._gate.run(_among(rows, ranked, groups).group_by(ranked.c.grp, ranked.c.place))
        return {(int(group), int(place)): int(count) for group, place, count in map(tuple, found)}

    def _is_own_row(self, ranking: Ranking, ranked: sa.FromClause) -> sa.ColumnElement[bool]:
        return sa.and_(
            *(
                cell == ranked.c[f"c{place}"]
                for place, cell in enumerate(self._identity(ranking.table))
            )
        )

    def _is_row(
        self, ranking: Ranking, ranked: sa.FromClause, rows: sa.FromClause
    ) -> sa.ColumnElement[bool]:
        return sa.and_(*(rows.c[name] == ranked.c[name] for name in _cells(ranking)))

    def number_groups(self, ranking: Ranking, into: StoredKeys, after: int = 0) -> int:
        ranked, clause = self._clause(ranking), self._statements.table(ranking.table)
        names = ranking.table.identity
        start: sa.ColumnElement[int] = sa.literal_column(str(int(after)))
        number = sa.func.dense_rank().over(order_by=ranked.c.grp) + start
        if set(into.columns) <= set(names):
            cells = [ranked.c[f"c{names.index(name)}"] for name in into.columns]
            rows = sa.select(*cells, number).select_from(ranked)
        else:
            both = ranked.join(clause, self._is_own_row(ranking, ranked))
            cells = [clause.c[name] for name in into.columns]
            rows = sa.select(*cells, number).select_from(both)
        self._database.fill(into, self._statements.fill_plain(into, rows))
        return self.count_groups(ranking)[0]

    # The rows that go, and those that stay

    def pair(self, ranking: Ranking, into: StoredKeys) -> int:
        """What other tables point at is only looked up where it is not the identity itself."""
        gone, kept = (
            self._clause(ranking),
            self._clause(ranking).alias(self._statements.own("kept")),
        )
        both = (
            gone.join(kept, sa.and_(gone.c.grp == kept.c.grp, kept.c.place == _ONE))
            if into.new
            else gone
        )
        names, table = ranking.table.identity, self._statements.table(ranking.table)
        own: dict[str, sa.ColumnElement[Any]] = {
            name: gone.c[f"c{place}"] for place, name in enumerate(names)
        }
        other: dict[str, sa.ColumnElement[Any]] = {
            name: kept.c[f"c{place}"] for place, name in enumerate(names)
        }
        for rows, ranked, known in (
            (table, gone, own),
            (table.alias(self._statements.own("row")), kept, other),
        ):
            wanted = into.columns if known is own else into.new
            if not set(wanted) <= set(names):
                same = [rows.c[name] == ranked.c[f"c{place}"] for place, name in enumerate(names)]
                both = both.join(rows, sa.and_(*same))
                known.update({name: rows.c[name] for name in wanted if name not in names})
        cells = [
            *(own[name] for name in into.columns),
            sa.literal_column("-1"),
            *(other[name] for name in into.new),
        ]
        surplus: Rows = sa.select(*cells).select_from(both).where(gone.c.place > _ONE)
        return self._database.fill(into, self._statements.fill_plain(into, surplus))

    def count_kept(self, ranking: Ranking, keys: KeySet) -> int:
        ranked, names = self._clause(ranking), ranking.table.identity
        cells = [ranked.c[f"c{place}"] for place in range(len(names))]
        rows = sa.select(sa.func.count()).select_from(ranked).where(ranked.c.place == _ONE)
        return self._gate.number(rows.where(self._statements.is_in(cells, keys, names)))

    def fill_kept(self, ranking: Ranking, into: StoredKeys, *, blanks: bool) -> int:
        """The first value of each column in the order of the places, a row's own first."""
        ranked, clause = self._clause(ranking), self._statements.table(ranking.table)
        cells = []
        for name in into.new:
            cell = clause.c[name]
            empty = (
                self._is_blank(cell, ranking.table.column(name).family)
                if blanks
                else cell.is_(None)
            )
            order = [sa.case((empty, _ONE), else_=sa.literal_column("0")), ranked.c.place]
            cells.append(sa.func.first_value(cell).over(partition_by=ranked.c.grp, order_by=order))
        own = [clause.c[name] for name in into.new]
        both = sa.select(
            ranked.c.place,
            *(
                column.label(f"c{place}")
                for place, column in enumerate(self._statements.carried(into))
            ),
            *(cell.label(f"n{place}") for place, cell in enumerate(cells)),
            *(cell.label(f"o{place}") for place, cell in enumerate(own)),
        ).select_from(ranked.join(clause, self._is_own_row(ranking, ranked)))
        found = both.subquery(self._statements.own("found"))
        differs = [
            found.c[f"n{place}"].is_distinct_from(found.c[f"o{place}"]) for place in range(len(own))
        ]
        kept = sa.select(
            *(found.c[f"c{place}"] for place in range(len(into.columns))),
            sa.literal_column("0"),
            *(found.c[f"n{place}"] for place in range(len(own))),
        ).where(found.c.place == _ONE, balanced("OR", differs))
        return self._database.fill(into, self._statements.fill_plain(into, kept))


def _cells(ranking: Ranking) -> list[str]:
    return [f"c{place}" for place in range(len(ranking.table.identity))]


def _is_by_identity(rule: Rule, table: Table) -> bool:
    """Whether a rule puts rows in the order in which ties fall anyway."""
    return (
        rule.kind in (RuleKind.LOWEST, RuleKind.OLDEST)
        and (rule.column,) == table.key == table.identity[:1]
    )


def _orders(
    table: Table, rules: Sequence[Rule], rows: sa.FromClause
) -> list[sa.ColumnElement[Any]]:
    order = [part for place, rule in enumerate(rules) for part in _order(rule, rows.c[f"v{place}"])]
    return order + [rows.c[f"t{place}"] for place in range(len(table.tie_breakers))]


def _order(rule: Rule, value: sa.ColumnElement[Any]) -> list[sa.ColumnElement[Any]]:
    if rule.kind in (RuleKind.NEWEST, RuleKind.HIGHEST):
        return [sa.case((value.is_(None), 1), else_=0), value.desc()]
    return [sa.case((value.is_(None), 1), else_=0), value.asc()] if rule.column else [value]


def _among(rows: Rows, ranked: sa.TableClause, groups: Sequence[int]) -> Rows:
    return rows.where(ranked.c.grp.in_(sa.literal_column(str(int(group))) for group in groups))
