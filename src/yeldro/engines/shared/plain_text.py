"""Ignoring case, white space and accents on servers, with the one meaning of `core.spelling`.

What is ASCII the server changes itself. Of other texts every different one is sent here once, a
thousand at a time, and its plain form is sent back into a temporary table, by which the server then
looks it up.
"""

from __future__ import annotations

from abc import abstractmethod
from collections.abc import Iterator
from typing import Any

import sqlalchemy as sa

from yeldro.core.selection.grouping import Grouping, Ranking, Same
from yeldro.core.selection.plain_text import make_plain
from yeldro.engines.shared.ranking import SqlRanking

# Texts whose plain form is worked out here, at a time.
_AT_ONCE = 1000


class ServerSpelling(SqlRanking):
    """The part of a connection to a server that ignores differences between texts."""

    def _make_plain(self, grouping: Grouping, same: Same) -> str:
        name = next(self._names)
        self._make_plain_table(name, self._cell(grouping, same))
        return name

    @abstractmethod
    def _make_plain_table(self, name: str, cell: sa.ColumnElement[Any]) -> None:
        """Make a table with the columns number, value, plain, and mark: what a text is looked up
        by."""

    @abstractmethod
    def _is_ascii(self, cell: sa.ColumnElement[Any]) -> sa.ColumnElement[bool]: ...

    @abstractmethod
    def _mark(self, cell: Any) -> sa.ColumnElement[Any]:
        """What is the same for two texts where their characters are."""

    @abstractmethod
    def _ascii_plain(
        self, cell: sa.ColumnElement[Any], same: Same, collation: str
    ) -> sa.ColumnElement[Any]:
        """`collation` is that of the column, "" where it is the usual one."""

    def _cell(self, grouping: Grouping, same: Same) -> sa.ColumnElement[Any]:
        if same.expression:
            return self._statements.fragment(same.expression)
        return self._statements.table(grouping.table).c[same.column]

    def _plain_text(
        self, grouping: Grouping, same: Same, cell: sa.ColumnElement[Any], name: str
    ) -> sa.ColumnElement[Any]:
        known = self._plain_clause(name)
        looked_up = sa.select(known.c.plain).where(
            known.c.mark == self._mark(cell), known.c.plain.is_not(None)
        )
        plain = looked_up.correlate_except(known).scalar_subquery()
        collation = grouping.table.column(same.column).collation if same.column else ""
        return sa.case(
            (self._is_ascii(cell), self._ascii_plain(cell, same, collation)), else_=plain
        )

    def _plain_clause(self, name: str) -> sa.TableClause:
        columns: list[sa.ColumnClause[Any]] = [
            sa.column(one) for one in ("number", "value", "plain", "mark")
        ]
        return sa.table(name, *columns, schema=self._statements.key_schema)

    def _spell(self, ranking: Ranking) -> None:
        grouping = ranking.grouping
        for same, name in zip(grouping.loose, ranking.plain, strict=True):
            cell, known = self._cell(grouping, same), self._plain_clause(name)
            clause = self._statements.table(grouping.table)
            # By their marks: DISTINCT would go by the collation, which may merge texts that differ.
            texts = (
                sa.select(sa.func.min(cell).label("value"))
                .select_from(clause)
                .group_by(self._mark(cell))
            )
            texts = texts.where(
                sa.not_(self._is_ascii(cell)), *self._statements.is_selected(grouping.selection)
            )
            found = texts.subquery(self._statements.own("texts"))
            numbered = sa.select(sa.func.row_number().over(), found.c.value)
            total = self._gate.run(
                sa.insert(known).from_select(["number", "value"], numbered)
            ).rowcount
            for first in range(1, total + 1, _AT_ONCE):
                page = sa.select(known.c.value).where(
                    known.c.number.between(first, first + _AT_ONCE - 1)
                )
                rows = list(self._plain_rows([str(row[0]) for row in self._gate.run(page)], same))
                value, plain = (
                    sa.bindparam("text", type_=sa.Text),
                    sa.bindparam("plain_text", type_=sa.Text),
                )
                filling = sa.insert(known).values(
                    {known.c.plain: plain, known.c.mark: self._mark(value)}
                )
                self._gate.run_many(filling, rows, self._write_plain)

    def _write_plain(self, row: dict[str, Any]) -> dict[str, sa.ColumnElement[Any]]:
        return {"plain": sa.literal(row["plain_text"]), "mark": self._mark(sa.literal(row["text"]))}

    def _plain_rows(self, texts: list[str], same: Same) -> Iterator[dict[str, Any]]:
        for text in dict.fromkeys(texts):
            yield {"text": text, "plain_text": make_plain(text, same.ignored)}
