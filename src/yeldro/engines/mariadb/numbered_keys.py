"""Keys with a number each on MariaDB."""

from __future__ import annotations

from yeldro.core.model.key_set import StoredKeys
from yeldro.engines.mariadb.statements import CreateKeyTable
from yeldro.engines.shared.numbered_keys import SqlNumberedKeys


class MariadbNumberedKeys(SqlNumberedKeys):
    """The part of a connection."""

    _numbers_are_keys = True

    def _make_numbered(self, numbered: StoredKeys) -> None:
        empty = self._statements.make_empty(numbered)
        self._gate.make(numbered.name, CreateKeyTable(numbered.name, ["round"], empty))
