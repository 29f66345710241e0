"""Keys with a number each on MariaDB."""

from __future__ import annotations

from functools import cached_property

from yeldro.core.model.key_set import StoredKeys
from yeldro.core.model.schema import Family
from yeldro.engines.mariadb.statements import CreateKeyTable
from yeldro.engines.shared.numbered_keys import SqlNumberedKeys

# Whether tables may be made that know no transaction. A cluster has rules for such, and who
# encrypts temporary tables means all of them.
_LOOSE = """
SELECT 1 FROM information_schema.ENGINES
WHERE ENGINE = 'MyISAM' AND SUPPORT IN ('YES', 'DEFAULT') AND NOT EXISTS (
  SELECT 1 FROM information_schema.SESSION_VARIABLES
  WHERE VARIABLE_NAME IN ('WSREP_ON', 'INNODB_ENCRYPT_TEMPORARY_TABLES') AND VARIABLE_VALUE = 'ON'
  OR VARIABLE_NAME = 'ENFORCE_STORAGE_ENGINE' AND VARIABLE_VALUE <> '')"""
# Columns that an index may have.
_MOST = 16


class MariadbNumberedKeys(SqlNumberedKeys):
    """The part of a connection."""

    _numbers_are_keys = True

    def _make_numbered(self, numbered: StoredKeys) -> None:
        empty, loose = self._statements.make_empty(numbered), self._is_loose(numbered)
        made = CreateKeyTable(numbered.name, ["round"], empty, loose=loose)
        self._gate.make(numbered.name, made)

    def _is_loose(self, numbered: StoredKeys) -> bool:
        """It is filled before there is a transaction, and only read after that. Texts may be too
        long for such an index."""
        kinds = {column.name: column.family for column in numbered.table.columns}
        are_numbers = all(kinds.get(name) is Family.INTEGER for name in numbered.columns)
        return are_numbers and len(numbered.columns) < _MOST and self._has_loose

    @cached_property
    def _has_loose(self) -> bool:
        return self._gate.run_text(_LOOSE).first() is not None
