"""What the parts of a connection to PostgreSQL need of it."""

from __future__ import annotations

from contextlib import AbstractContextManager
from typing import Protocol

import sqlalchemy as sa

from yeldro.core.model.key_set import KeySet, StoredKeys
from yeldro.engines.postgresql.link import GuardedConnection
from yeldro.engines.postgresql.statements import PostgresqlStatements
from yeldro.engines.shared.part import Owner
from yeldro.engines.shared.writer import Writer


class PostgresqlOwner(Owner, Protocol):
    raw: GuardedConnection
    sent: Writer
    """Writes statements as the driver's own commands take them."""

    @property
    def statements(self) -> PostgresqlStatements: ...

    def own_path(self) -> AbstractContextManager[None]:
        """With a search path on which names mean what the server's own catalogue means."""
        ...

    def setting(self, name: str) -> str: ...

    def find_span(self, keys: StoredKeys) -> None:
        """Between which numbers keys lie, where they are numbers."""
        ...

    def follow(self, keys: KeySet, moving: sa.Update) -> int:
        """Change rows that move by it, and let every key set of the table follow."""
        ...
