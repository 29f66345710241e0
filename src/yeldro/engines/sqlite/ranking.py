"""Ranking duplicates on SQLite."""

from __future__ import annotations

from typing import Any

import sqlalchemy as sa

from yeldro.core.model.key_set import StoredKeys
from yeldro.core.model.schema import Table
from yeldro.core.selection.grouping import Grouping, Ranking, Same
from yeldro.core.selection.plain_text import WHITE, make_plain
from yeldro.engines.shared.ranking import SqlRanking
from yeldro.engines.shared.statements import Rows
from yeldro.engines.sqlite.part import SqliteOwner
from yeldro.engines.sqlite.statements import SqliteStatements


class SqliteRanking(SqlRanking):
    """The part of a connection."""

    _database: SqliteOwner
    _statements: SqliteStatements

    def _make_ranking_table(self, name: str, empty: Rows, *, shared: bool) -> None:
        """In the order in which it is filled."""
        cells = [cell.name for cell in empty.selected_columns]
        key = "PRIMARY KEY (grp, place)) WITHOUT ROWID"
        self._gate.make(name, f"CREATE TEMP TABLE {name} ({', '.join(cells)}, {key}")
        # Called for the first time it would look like a change to the authorizer of a read-only
        # transaction.
        self._gate.run_text("SELECT count(*) FROM json_each('[]')")

    def _gathers(self, table: Table) -> bool:
        return self._database.is_whole_number(StoredKeys(table, table.identity, ""))

    def _members(self, ranking: Ranking) -> tuple[sa.FromClause, list[sa.ColumnElement[Any]]]:
        groups = self._gathered(ranking, sa.func.json_group_array)
        members = sa.func.json_each(groups.c.ids).table_valued(
            "value", name=self._statements.own("members")
        )
        return groups.join(members, sa.true()), [members.c.value, groups.c.grp, groups.c.size]

    def _starts_white(self, cell: sa.ColumnElement[Any]) -> sa.ColumnElement[bool]:
        first = sa.func.coalesce(sa.func.unicode(cell), sa.literal_column("0"))
        return sa.not_(first.between(sa.literal_column("33"), sa.literal_column("126")))

    def is_white(self, cell: sa.ColumnElement[Any]) -> sa.ColumnElement[bool]:
        is_text = sa.func.typeof(cell) == sa.literal_column("'text'")
        return sa.and_(is_text, sa.func.trim(cell, WHITE) == sa.literal_column("''"))

    def _may_merge(self, table: Table, column: str) -> bool:
        return (table.column(column).collation or "BINARY") != "BINARY"

    def _make_plain(self, grouping: Grouping, same: Same) -> str:
        """SQLite calls a function of ours; in a script there is none, so texts are looked up."""
        if self._gate.scribe:
            return self._make_plain_table(grouping, same)
        name = f"yeldro_plain_{'_'.join(sorted(same.ignored))}"

        def plain(value: Any) -> Any:
            return make_plain(value, same.ignored) if isinstance(value, str) else value

        self._database.raw.create_function(name, 1, plain, deterministic=True)
        return name

    def _plain_text(
        self, grouping: Grouping, same: Same, cell: sa.ColumnElement[Any], name: str
    ) -> sa.ColumnElement[Any]:
        if name in self._database.looked_up:
            known = sa.table(name, sa.column("value"), sa.column("plain"), schema="temp")
            found = (
                sa.select(known.c.plain)
                .where(known.c.value == cell)
                .correlate_except(known)
                .scalar_subquery()
            )
            plain: sa.ColumnElement[Any] = sa.func.coalesce(found, cell)
        else:
            plain = getattr(sa.func, name)(cell)
        return (
            self._statements.sorted_as(plain, grouping.table.column(same.column))
            if same.column
            else plain
        )

    def _make_plain_table(self, grouping: Grouping, same: Same) -> str:
        """The texts that look otherwise when nothing is ignored any more, with their plain
        forms.
        """
        name = next(self._names)
        self._database.looked_up.add(name)
        clause = self._statements.table(grouping.table)
        cell = (
            self._statements.fragment(same.expression) if same.expression else clause.c[same.column]
        )
        self._gate.make(
            name, f"CREATE TEMP TABLE {name} (value TEXT COLLATE BINARY PRIMARY KEY, plain TEXT)"
        )
        texts = [row[0] for row in self._gate.run(sa.select(cell).select_from(clause).distinct())]
        plain = {text: make_plain(text, same.ignored) for text in texts if isinstance(text, str)}
        rows = [{"value": text, "plain": other} for text, other in plain.items() if text != other]
        if rows:
            known = sa.table(name, sa.column("value"), sa.column("plain"), schema="temp")
            self._gate.run_many(sa.insert(known), rows)
        return name
