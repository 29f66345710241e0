"""Ranking duplicates on MariaDB."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

import sqlalchemy as sa

from yeldro.core.database.sent import Kind
from yeldro.core.model.schema import Column, Family, Table
from yeldro.core.selection.grouping import Ignored, Ranking, Same
from yeldro.core.selection.plain_text import WHITE
from yeldro.engines.mariadb.statements import (
    CreateKeyTable,
    JsonTable,
    Utf8,
)
from yeldro.engines.shared.plain_text import ServerSpelling
from yeldro.engines.shared.statements import Rows, Words, bare

# Types whose values may be longer than what a sort looks at.
_LONG = ("mediumtext", "longtext", "mediumblob", "longblob")


class MariadbRanking(ServerSpelling):
    """The part of a connection."""

    def rank(self, ranking: Ranking) -> int:
        with self._whole(ranking):
            return super().rank(ranking)

    def count_left_groups(self, ranking: Ranking) -> int:
        with self._whole(ranking):
            return super().count_left_groups(ranking)

    @contextmanager
    def _whole(self, ranking: Ranking) -> Iterator[None]:
        """The plain form of a text is looked up in a subquery. Where rows are chosen by a list of
        keys, too, the optimizer of 10.11 turns that into a semi-join and finds no groups."""
        if not ranking.grouping.selection.listed:
            yield
            return
        self._gate.run_text("SET SESSION optimizer_switch = 'semijoin=off'", Kind.PLAIN)
        try:
            yield
        finally:
            self._gate.run_text("SET SESSION optimizer_switch = 'semijoin=on'", Kind.PLAIN)

    def _make_ranking_table(self, name: str, empty: Rows, *, shared: bool) -> None:
        """In the order in which it is filled. A digest of a row is worked out once for each row,
        and looked up."""
        self._gate.make(
            name, CreateKeyTable(name, ["grp", "place"], empty, [["c0"]] if shared else [])
        )

    def _gathers(self, table: Table) -> bool:
        names = table.identity
        return (
            len(names) == 1
            and names[0] in table.column_names
            and table.column(names[0]).family is Family.INTEGER
        )

    def _members(self, ranking: Ranking) -> tuple[sa.FromClause, list[sa.ColumnElement[Any]]]:
        groups = self._gathered(ranking, sa.func.json_arrayagg)
        members = JsonTable(groups.c.ids).table_valued("c0", name=self._statements.own("members"))
        return groups.join(members, sa.true()), [members.c.c0, groups.c.grp, groups.c.size]

    def _starts_white(self, cell: sa.ColumnElement[Any]) -> sa.ColumnElement[bool]:
        first = sa.func.ord(cell)
        return sa.not_(first.between(sa.literal_column("33"), sa.literal_column("126")))

    def is_white(self, cell: sa.ColumnElement[Any]) -> sa.ColumnElement[bool]:
        signs = "".join(f"\\\\x{{{ord(sign):x}}}" for sign in WHITE)
        pattern: sa.ColumnElement[str] = sa.literal_column(f"'[^{signs}]'")
        other: sa.ColumnElement[bool] = Utf8(cell).op("REGEXP", is_comparison=True)(pattern)
        return sa.not_(other)

    def _same(self, ranking: Ranking) -> list[sa.ColumnElement[Any]]:
        """Sorting looks at the first max_sort_length bytes: of texts that may be longer, a digest
        of what is compared stands for the whole, or of the bytes themselves where this would be
        longer than a packet may be.
        """
        cells = super()._same(ranking)
        columns = [
            ranking.table.column(part.column) if part.column else None
            for part in ranking.grouping.same
        ]
        return [
            _digest(cell, column) if column and column.type in _LONG else cell
            for cell, column in zip(cells, columns, strict=True)
        ]

    def _may_merge(self, table: Table, column: str) -> bool:
        return not table.column(column).collation.endswith("_bin")

    def _make_plain_table(self, name: str, cell: sa.ColumnElement[Any]) -> None:
        """A plain form is at most three times as long."""
        plain = sa.func.repeat(cell, sa.literal_column("3")).label("plain")
        value: sa.ColumnElement[Any] = sa.func.nullif(cell, sa.literal_column("''")).label("value")
        empty = bare(sa.select(value, plain).where(sa.false()))
        key = "yeldro_row BIGINT UNSIGNED AUTO_INCREMENT PRIMARY KEY"
        own = f"({key}, number BIGINT, mark BINARY(16), KEY (mark)) ENGINE=InnoDB AS"
        self._gate.make(name, Words("CREATE TEMPORARY TABLE", sa.table(name), own, empty))

    def _is_ascii(self, cell: sa.ColumnElement[Any]) -> sa.ColumnElement[bool]:
        return sa.func.length(Utf8(cell)) == sa.func.char_length(cell)

    def _mark(self, cell: Any) -> sa.ColumnElement[Any]:
        """Texts may be too long for an index."""
        return sa.func.unhex(sa.func.md5(Utf8(cell)))

    def _ascii_plain(
        self, cell: sa.ColumnElement[Any], same: Same, collation: str
    ) -> sa.ColumnElement[Any]:
        text = sa.func.lower(cell) if Ignored.CASE in same.ignored else cell
        if Ignored.SPACE in same.ignored:
            blanks: sa.ColumnElement[str] = sa.literal_column(r"'[\\x09-\\x0d\\x1c-\\x20]+'")
            text = sa.func.trim(sa.func.regexp_replace(text, blanks, sa.literal_column("' '")))
        return text


def _digest(cell: sa.ColumnElement[Any], column: Column) -> sa.ColumnElement[Any]:
    """Blanks at the end count for nothing, but where the collation says so."""
    pads = column.collation and "nopad" not in column.collation
    weights = sa.func.weight_string(sa.func.rtrim(cell) if pads else cell)
    size: sa.ColumnElement[int] = sa.literal_column("256")
    return sa.func.coalesce(sa.func.sha2(weights, size), sa.func.sha2(cell, size))
