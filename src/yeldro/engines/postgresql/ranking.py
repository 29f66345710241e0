"""Ranking duplicates on PostgreSQL."""

from __future__ import annotations

import string
from typing import Any

import sqlalchemy as sa

from yeldro.core.database.sent import Kind
from yeldro.core.model.schema import Family, Table
from yeldro.core.selection.grouping import Ignored, Ranking, Same
from yeldro.core.selection.plain_text import WHITE
from yeldro.engines.postgresql.part import PostgresqlOwner
from yeldro.engines.postgresql.statements import LARGE, Collated, Named
from yeldro.engines.shared.plain_text import ServerSpelling

# Types with a lowest and a highest value, which min() and max() know.
_ORDERED = {Family.TEXT, Family.INTEGER, Family.NUMBER, Family.DATE, Family.TIMESTAMP}
# Whether two spellings can be equal: a type or a collation says so.
_BLIND = """
SELECT format_type(atttypid, NULL) = 'citext' OR NOT COALESCE(collisdeterministic, true)
FROM pg_attribute AS a JOIN pg_class AS t ON t.oid = attrelid JOIN pg_namespace AS n ON n.oid =
relnamespace
LEFT JOIN pg_collation AS c ON c.oid = attcollation
WHERE nspname = :schema AND t.relname = :table AND attname = :column"""


class PostgresqlRanking(ServerSpelling):
    """The part of a connection."""

    _database: PostgresqlOwner

    def _make_plain_table(self, name: str, cell: sa.ColumnElement[Any]) -> None:
        """A hash index takes texts of any length."""
        text = sa.cast(cell, sa.Text)
        columns = [text.label("value"), text.label("plain"), sa.collate(text, "C").label("mark")]
        number = sa.cast(sa.literal_column("0"), sa.BigInteger).label("number")
        empty = sa.select(number, *columns).where(sa.false())
        self._gate.make(name, sa.CreateTableAs(empty, name, temporary=True))
        self._gate.run_text(f"CREATE INDEX ON pg_temp.{name} USING hash (mark)", Kind.PLAIN)

    def _is_ascii(self, cell: sa.ColumnElement[Any]) -> sa.ColumnElement[bool]:
        text = sa.cast(cell, sa.Text)
        return sa.func.octet_length(sa.func.convert_to(text, "UTF8")) == sa.func.char_length(text)

    def _mark(self, cell: Any) -> sa.ColumnElement[Any]:
        return sa.collate(sa.cast(cell, sa.Text), "C")

    def _ascii_plain(
        self, cell: sa.ColumnElement[Any], same: Same, collation: str
    ) -> sa.ColumnElement[Any]:
        """lower() would go by the locale of the collation, and some collations know no regular
        expressions."""
        text: sa.ColumnElement[Any] = sa.cast(cell, sa.Text)
        text = sa.collate(text, "C") if collation else text
        if Ignored.CASE in same.ignored:
            text = sa.func.translate(text, string.ascii_uppercase, string.ascii_lowercase)
        if Ignored.SPACE in same.ignored:
            text = sa.func.btrim(
                sa.func.regexp_replace(text, r"[\x09-\x0d\x1c-\x20]+", " ", "g"), " "
            )
        return Collated(text, collation) if collation else text

    def rank(self, ranking: Ranking) -> int:
        """Hashing and sorting in memory, where there is some."""
        self._gate.run_text("SET LOCAL work_mem = '256MB'", Kind.PLAIN)
        self._gate.run_text("SET LOCAL jit = off", Kind.PLAIN)
        rows = super().rank(ranking)
        # A new table has no figures, and joins with it would go by a guess.
        if rows > LARGE and not self._statements.holding:
            self._gate.run_text(f"ANALYZE pg_temp.{ranking.name}", Kind.PLAIN)
        return rows

    def _gathers(self, table: Table) -> bool:
        return len(table.identity) == 1 and table.column(table.identity[0]).family in _ORDERED

    def _members(self, ranking: Ranking) -> tuple[sa.FromClause, list[sa.ColumnElement[Any]]]:
        """Hashing, and no sorting: the lowest and the highest row of a group come with it, others
        are looked up."""
        grouping = ranking.grouping
        same = self._looked(ranking, ()).subquery(self._statements.own("same"))
        names = [f"s{place}" for place in range(len(grouping.same))]
        shared = [same.c[name] for name in names]
        number, size = sa.func.row_number().over().label("grp"), sa.func.count().label("size")
        ends = [sa.func.min(same.c.c0).label("low"), sa.func.max(same.c.c0).label("high")]
        several = (
            sa.select(*shared, *ends, size, number)
            .group_by(*shared)
            .having(sa.func.count() > sa.text("1"))
        )
        groups = several.cte(self._statements.own("groups")).prefix_with("MATERIALIZED")
        rows = self._looked(ranking, ()).subquery(self._statements.own("rows"))
        left, right = ([clause.c[name] for name in names] for clause in (rows, groups))
        if grouping.nulls_differ:
            alike = sa.and_(*(one == two for one, two in zip(left, right, strict=True)))
        else:
            # Records are equal where their NULLs are too, and can be hashed,
            # which IS NOT DISTINCT FROM cannot.
            one, two = (sa.cast(sa.func.row(*cells), Named("record")) for cells in (left, right))
            alike = one == two
        between = sa.and_(
            rows.c.c0 != groups.c.low, rows.c.c0 != groups.c.high, groups.c.size > sa.text("2")
        )
        second = sa.func.row_number().over(partition_by=groups.c.grp, order_by=rows.c.c0)
        others = (
            sa.select(rows.c.c0, groups.c.grp, groups.c.size, second + sa.text("1"))
            .select_from(rows.join(groups, alike))
            .where(between)
        )
        first: sa.ColumnElement[Any] = sa.cast(sa.literal_column("1"), sa.BigInteger)
        found = [
            sa.select(end.label("c0"), groups.c.grp, groups.c.size, place.label("place"))
            for end, place in ((groups.c.low, first), (groups.c.high, groups.c.size))
        ]
        members = sa.union_all(*found, others).subquery(self._statements.own("members"))
        return members, [members.c.c0, members.c.grp, members.c.size, members.c.place]

    def _starts_white(self, cell: sa.ColumnElement[Any]) -> sa.ColumnElement[bool]:
        """By its bytes, of which those of other signs are larger than those of ASCII."""
        text = sa.collate(sa.cast(cell, sa.Text), "C")
        return sa.or_(text < sa.literal_column("'!'"), text > sa.literal_column("'~'"))

    def is_white(self, cell: sa.ColumnElement[Any]) -> sa.ColumnElement[bool]:
        """Not by the collation of a column, which may make `-` equal to nothing."""
        text = sa.collate(sa.cast(cell, sa.Text), "C")
        return sa.func.btrim(text, WHITE) == sa.literal_column("''")

    def _may_merge(self, table: Table, column: str) -> bool:
        # Asked of the catalogue: a column may have a collation of its own, or one of its type.
        name = table.name
        with self._database.own_path():
            found = self._gate.run(
                sa.text(_BLIND).bindparams(schema=name.schema, table=name.name, column=column)
            )
            return bool(found.scalar_one())
