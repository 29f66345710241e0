"""Keys with a number each on SQLite."""

from __future__ import annotations

import sqlalchemy as sa

from yeldro.core.model.key_set import StoredKeys
from yeldro.engines.shared.numbered_keys import SqlNumberedKeys
from yeldro.engines.shared.statements import Words


class SqliteNumberedKeys(SqlNumberedKeys):
    """The part of a connection."""

    def _index(self, numbered: StoredKeys, end: str, columns: str) -> Words:
        """An index is where its table is, and only it is named with the place."""
        name = sa.table(f"{numbered.name}_by_{end}", schema=self._statements.key_schema)
        return Words("CREATE INDEX", name, "ON", sa.table(numbered.name), f"({columns})")
