"""Rows that take the place of others, on PostgreSQL."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import sqlalchemy as sa

from yeldro.core.database.abilities import Mode
from yeldro.core.model.key_set import KeySet, StoredKeys
from yeldro.core.selection.grouping import Ranking
from yeldro.engines.postgresql.part import PostgresqlOwner
from yeldro.engines.postgresql.statements import PostgresqlStatements
from yeldro.engines.shared.replacing import SqlReplacing


class PostgresqlReplacing(SqlReplacing):
    """The part of a connection."""

    _database: PostgresqlOwner
    _statements: PostgresqlStatements

    def lock_ranked(self, ranking: Ranking) -> None:
        """Rows that go are locked by their deletion; before that only where somebody could let a
        row on them."""
        if self._database.mode is Mode.WRITE:
            ranked = StoredKeys(ranking.table, ranking.table.identity, ranking.name)
            kept: sa.ColumnElement[bool] = sa.literal_column("place = 1")
            among = [] if self._database.schema.incoming(ranking.table) else [kept]
            self._gate.run(self._statements.lock(ranked, among))

    def _change(
        self,
        images: KeySet,
        values: dict[str, sa.ColumnElement[Any]],
        only: Sequence[sa.ColumnElement[bool]],
    ) -> int:
        """Where a row goes by its place, an update moves it."""
        if images.table.lasting_keys[:1] == (images.table.identity,):
            return super()._change(images, values, only)
        clause = self._statements.table(images.table)
        new = {clause.c[name]: value for name, value in values.items()}
        return self._database.follow(images, self._statements.moving(images, new).where(*only))
