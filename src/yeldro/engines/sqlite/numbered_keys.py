"""Keys with a number each on SQLite."""

from __future__ import annotations

import time
from typing import Any

import sqlalchemy as sa

from yeldro.core.model.key_set import StoredKeys
from yeldro.engines.shared.numbered_keys import SqlNumberedKeys
from yeldro.engines.shared.statements import Words
from yeldro.engines.sqlite.part import SqliteOwner

# KiB of pages that are kept in memory: with the 2,000 of SQLite the same ones are written again and
# again while many rows go, which takes 1.3 times as long.
_CACHE = 64 * 1024
# Seconds between two times at which what batches wrote goes from the log into the database: pages
# that several of them changed go once, and no batch holds its lock meanwhile.
_APART = 1.0


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
        self._gate.run_text("PRAGMA wal_autocheckpoint = 0")
        self._emptied = time.monotonic()

    def drop_others(self) -> None:
        """https://www.sqlite.org/pragma.html#pragma_wal_checkpoint: waits for nobody."""
        super().drop_others()
        if time.monotonic() - self._emptied > _APART:
            self._gate.run_text("PRAGMA main.wal_checkpoint(PASSIVE)").all()
            self._emptied = time.monotonic()

    def _index(self, numbered: StoredKeys, end: str, columns: str) -> Words:
        """An index is where its table is, and only it is named with the place."""
        name = sa.table(f"{numbered.name}_by_{end}", schema=self._statements.key_schema)
        return Words("CREATE INDEX", name, "ON", sa.table(numbered.name), f"({columns})")
