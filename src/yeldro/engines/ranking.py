"""Ranking duplicates: the statements, and how every engine sends them."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

import sqlalchemy as sa

from yeldro.core.database import Row
from yeldro.core.ranking import Ranking, Rule, RuleKind
from yeldro.core.schema import Family, Reference, Table
from yeldro.core.selection import Selection
from yeldro.engines.gate import Gate
from yeldro.engines.staging import StageStatements
from yeldro.engines.statements import Rows, Words, bare
from yeldro.errors import BadStatement, UsageError

_OWN = ("grp", "place", "size")


class SqlRanking:
    """The part of a connection that finds duplicates."""

    _gate: Gate
    _statements: StageStatements
    _names: Iterator[str]

    def make_ranking(self, table: Table) -> Ranking:
        ranking = Ranking(table, next(self._names))
        clause = self._statements.table(table)
        columns = [clause.c[name].label(f"c{place}") for place, name in enumerate(table.identity)]
        numbers = [sa.cast(sa.literal_column("0"), sa.BigInteger).label(name) for name in _OWN]
        empty = sa.select(*columns, *numbers).where(sa.false())
        self._gate.run(Words("CREATE TEMPORARY TABLE", sa.table(ranking.name), "AS", bare(empty)))
        return ranking

    def rank(
        self,
        ranking: Ranking,
        selection: Selection,
        same: Sequence[str],
        rules: Sequence[Rule],
        *,
        without_nulls: bool,
    ) -> int:
        try:
            return self._gate.run(self._rank(ranking, selection, same, rules, without_nulls)).rowcount
        except BadStatement as error:
            raise UsageError(f"The database cannot rank the rows: {error.message}") from error

    def _rank(
        self, ranking: Ranking, selection: Selection, same: Sequence[str], rules: Sequence[Rule], without_nulls: bool
    ) -> sa.Insert:
        clause, target = self._statements.table(ranking.table), self._clause(ranking)
        columns = [clause.c[name] for name in same]
        identity = [clause.c[name] for name in ranking.table.identity]
        wanted = self._statements.is_selected(selection)
        if without_nulls:
            wanted += [column.is_not(None) for column in columns]
        order = [part for rule in rules for part in self._order(ranking.table, rule)]
        ranked = (
            sa.select(
                *(column.label(f"c{place}") for place, column in enumerate(identity)),
                sa.func.dense_rank().over(order_by=columns).label("grp"),
                sa.func.row_number().over(partition_by=columns, order_by=[*order, *identity]).label("place"),
                sa.func.count().over(partition_by=columns).label("size"),
            )
            .where(*wanted)
            .subquery("yeldro_ranked")
        )
        several = sa.select(*ranked.c).where(ranked.c.size > sa.literal_column("1"))
        return sa.insert(target).from_select(target.c.keys(), several)

    def _clause(self, ranking: Ranking) -> sa.TableClause:
        names = [*(f"c{place}" for place in range(len(ranking.table.identity))), *_OWN]
        columns: list[sa.ColumnClause[Any]] = [sa.column(name) for name in names]
        return sa.table(ranking.name, *columns, schema=self._statements.key_schema)

    def _value(self, table: Table, rule: Rule) -> sa.ColumnElement[Any]:
        """What a rule looks at: smaller is better but where the rule itself says otherwise."""
        clause = self._statements.table(table)
        if rule.kind is RuleKind.FULLEST:
            empty: list[sa.ColumnElement[int]] = [
                sa.case((self._is_blank(clause.c[column.name], column.family), 1), else_=0) for column in table.columns
            ]
            total = empty[0]
            for one in empty[1:]:
                total = total + one
            return total
        if rule.condition:
            return sa.case((self._statements.fragment(rule.condition), 0), else_=1)
        return clause.c[rule.column]

    def _is_blank(self, cell: sa.ColumnElement[Any], family: Family) -> sa.ColumnElement[bool]:
        nothing = cell.is_(None)
        return sa.or_(nothing, sa.func.trim(cell) == "") if family is Family.TEXT else nothing

    def _order(self, table: Table, rule: Rule) -> list[sa.ColumnElement[Any]]:
        value = self._value(table, rule)
        if rule.kind in (RuleKind.NEWEST, RuleKind.HIGHEST):
            return [sa.case((value.is_(None), 1), else_=0), value.desc()]
        return [sa.case((value.is_(None), 1), else_=0), value.asc()] if rule.column else [value]

    def count_groups(self, ranking: Ranking) -> tuple[int, int]:
        ranked = self._clause(ranking)
        first = sa.func.count(sa.case((ranked.c.place == sa.literal_column("1"), 1)))
        groups, rows = tuple(self._gate.run(sa.select(first, sa.func.count()).select_from(ranked)).one())
        return int(groups), int(rows)

    def count_sizes(self, ranking: Ranking) -> list[tuple[int, int]]:
        ranked = self._clause(ranking)
        sizes = sa.select(ranked.c.size, sa.func.count()).where(ranked.c.place == sa.literal_column("1"))
        found = self._gate.run(sizes.group_by(ranked.c.size).order_by(ranked.c.size))
        return [(int(size), int(groups)) for size, groups in map(tuple, found)]

    def first_groups(self, ranking: Ranking, limit: int | None) -> list[int]:
        ranked = self._clause(ranking)
        numbers = sa.select(ranked.c.grp).where(ranked.c.place == sa.literal_column("1")).order_by(ranked.c.grp)
        return [int(row[0]) for row in self._gate.run(numbers.limit(limit))]

    def ranked_rows(self, ranking: Ranking, rules: Sequence[Rule], groups: Sequence[int]) -> Iterator[Row]:
        clause, ranked = self._statements.table(ranking.table), self._clause(ranking)
        values = [self._value(ranking.table, rule).label(f"yeldro_rule_{place}") for place, rule in enumerate(rules)]
        rows: Rows = sa.select(
            ranked.c.grp, ranked.c.place, *(clause.c[name] for name in ranking.table.column_names), *values
        ).select_from(self._joined(ranking, clause, ranked))
        return self._gate.stream(self._among(rows, ranked, groups).order_by(ranked.c.grp, ranked.c.place))

    def count_hanging(
        self, ranking: Ranking, reference: Reference, groups: Sequence[int]
    ) -> dict[tuple[int, int], int]:
        ranked, child = self._clause(ranking), self._statements.table(reference.child).alias("yeldro_child")
        clause = self._statements.table(ranking.table)
        pairs = zip(reference.columns, reference.referred, strict=True)
        pointing = sa.and_(*(child.c[name] == clause.c[referred] for name, referred in pairs))
        rows: Rows = sa.select(ranked.c.grp, ranked.c.place, sa.func.count()).select_from(
            self._joined(ranking, clause, ranked).join(child, pointing)
        )
        found = self._gate.run(self._among(rows, ranked, groups).group_by(ranked.c.grp, ranked.c.place))
        return {(int(group), int(place)): int(count) for group, place, count in map(tuple, found)}

    def _joined(self, ranking: Ranking, clause: sa.TableClause, ranked: sa.TableClause) -> sa.Join:
        identity = enumerate(ranking.table.identity)
        return ranked.join(clause, sa.and_(*(clause.c[name] == ranked.c[f"c{place}"] for place, name in identity)))

    def _among(self, rows: Rows, ranked: sa.TableClause, groups: Sequence[int]) -> Rows:
        return rows.where(ranked.c.grp.in_(sa.literal_column(str(int(group))) for group in groups))
