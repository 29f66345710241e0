"""Keys with a number each on SQLite."""

from __future__ import annotations

from typing import Any

import sqlalchemy as sa

from yeldro.core.model.key_set import StoredKeys
from yeldro.engines.shared.numbered_keys import SqlNumberedKeys
from yeldro.engines.shared.statements import Words
from yeldro.engines.sqlite.part import SqliteOwner

# KiB of pages that are kept in memory: with the 2,000 of SQLite the same ones are written again and
# again while many rows go, which takes 1.3 times as long.
_CACHE = 64 * 1024


class SqliteNumberedKeys(SqlNumberedKeys):
    """The part of a connection."""

    _database: SqliteOwner
    _numbers_are_keys = True

    def _make_numbered(self, numbered: StoredKeys) -> None:
        columns = self._database.define_key_columns(numbered)
        made = f"round INTEGER PRIMARY KEY, {', '.join(columns)}"
        self._gate.make(numbered.name, f"CREATE TEMP TABLE {numbered.name} ({made})")

    def _give_numbers(self, numbered: StoredKeys, rows: sa.Select[Any]) -> sa.Insert:
        """A whole-number key that is not given counts from 1, in the order in which rows come."""
        target = self._statements.key_table(numbered)
        names = [f"c{place}" for place in range(len(numbered.columns))]
        return sa.insert(target).from_select(names, rows.order_by(*rows.selected_columns))

    def remember(self) -> None:
        super().remember()
        self._gate.run_text(f"PRAGMA main.cache_size = -{_CACHE}")

    def _index(self, numbered: StoredKeys, end: str, columns: str) -> Words:
        """An index is where its table is, and only it is named with the place."""
        name = sa.table(f"{numbered.name}_by_{end}", schema=self._statements.key_schema)
        return Words("CREATE INDEX", name, "ON", sa.table(numbered.name), f"({columns})")
