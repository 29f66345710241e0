"""A part of a connection: it sends through the same gate, and builds with the same statements."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from typing import Protocol

import sqlalchemy as sa

from yeldro.core.database.abilities import Mode
from yeldro.core.database.archive_queries import ArchiveQueries
from yeldro.core.database.numbered_keys import NumberedKeys
from yeldro.core.database.ranking_queries import RankingQueries
from yeldro.core.model.key_set import StoredKeys
from yeldro.core.model.schema import Schema, Table
from yeldro.engines.shared.archive_statements import StageStatements
from yeldro.engines.shared.gate import Gate
from yeldro.engines.shared.held import HeldTable
from yeldro.engines.shared.temporary_names import Names


class Owner(Protocol):
    """What a part needs of the connection that it belongs to."""

    schema: Schema
    gate: Gate
    names: Names
    mode: Mode | None
    in_batches: bool

    @property
    def statements(self) -> StageStatements: ...

    @property
    def ranking(self) -> RankingQueries: ...

    @property
    def archive(self) -> ArchiveQueries: ...

    @property
    def numbered(self) -> NumberedKeys: ...

    def fill(self, into: StoredKeys, statement: sa.Insert) -> int:
        """Send a statement that fills a key set. Returns how many rows it put in."""
        ...

    def forget_key_sets(self, names: Collection[str]) -> None: ...

    def try_to_count(self, statement: sa.Executable) -> int | None:
        """The number that a query gives, None where the database cannot run it."""
        ...

    def hold(self, table: HeldTable, statement: sa.Insert) -> int:
        """Put what a statement finds into a table that is held in the client."""
        ...

    def begin(
        self, mode: Mode, alone: Sequence[Table] = (), held: Sequence[Table] = ()
    ) -> None: ...

    def rollback(self) -> None: ...

    def create_key_table(self, keys: StoredKeys, *, unique: bool = True) -> None:
        """Make the temporary table of a key set."""
        ...


class SqlPart:
    """`_database` is the connection; engines know more of theirs."""

    _database: Owner

    def __init__(self, database: Owner) -> None:
        self._database = database
        self._gate = database.gate
        self._statements = database.statements
        self._names = database.names
