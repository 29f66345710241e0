"""What the parts of a connection to MariaDB need of it."""

from __future__ import annotations

from contextlib import AbstractContextManager
from typing import Any, Protocol

from yeldro.engines.mariadb.statements import MariadbStatements
from yeldro.engines.shared.part import Owner


class MariadbOwner(Owner, Protocol):
    raw: Any
    aside: int
    """Rows that were written to tables of our own while a run was counted."""

    @property
    def statements(self) -> MariadbStatements: ...

    def unchecked(self) -> AbstractContextManager[None]:
        """With the checks of foreign keys off for this connection."""
        ...

    def count_writes(self) -> int: ...
