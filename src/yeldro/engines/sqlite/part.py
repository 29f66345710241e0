"""What the parts of a connection to SQLite need of it."""

from __future__ import annotations

import sqlite3
from pathlib import Path
from typing import Protocol

from yeldro.core.model.key_set import KeySet, StoredKeys
from yeldro.engines.shared.part import Owner
from yeldro.engines.sqlite.statements import SqliteStatements


class SqliteOwner(Owner, Protocol):
    raw: sqlite3.Connection
    uri: str
    encoding: str
    attached: dict[Path, str]
    """Archives, each with the name under which it is attached."""

    looked_up: set[str]

    @property
    def statements(self) -> SqliteStatements: ...

    def define_key_table(self, keys: StoredKeys, *, unique: bool) -> str:
        """The statement that makes a key table."""
        ...

    def define_key_columns(self, keys: StoredKeys) -> list[str]:
        """Its columns, with their types."""
        ...

    def is_whole_number(self, keys: KeySet) -> bool:
        """Whether the identity is the row number."""
        ...
