"""Keys with a number each on PostgreSQL."""

from __future__ import annotations

from yeldro.core.model.key_set import KeyRange, StoredKeys
from yeldro.engines.postgresql.part import PostgresqlOwner
from yeldro.engines.shared.numbered_keys import SqlNumberedKeys


class PostgresqlNumberedKeys(SqlNumberedKeys):
    """The part of a connection."""

    _database: PostgresqlOwner

    def between(self, numbered: StoredKeys, first: int, last: int) -> KeyRange:
        keys = super().between(numbered, first, last)
        self._database.find_span(keys)
        return keys
