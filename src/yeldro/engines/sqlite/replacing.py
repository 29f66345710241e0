"""Rows that take the place of others, on SQLite."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import sqlalchemy as sa

from yeldro.core.model.key_set import KeySet
from yeldro.engines.shared.replacing import SqlReplacing
from yeldro.engines.shared.statements import as_tuple


class SqliteReplacing(SqlReplacing):
    """The part of a connection."""

    def _change(
        self,
        images: KeySet,
        values: dict[str, sa.ColumnElement[Any]],
        only: Sequence[sa.ColumnElement[bool]],
    ) -> int:
        """One look into the key table for each row, whatever the planner believes of temporary
        tables."""
        clause = self._statements.table(images.table)
        own = self._is_own(images)
        new = {
            clause.c[name]: sa.select(value).where(own).scalar_subquery()
            for name, value in values.items()
        }
        keys = self._statements.key_columns(images, images.table.identity)
        among = as_tuple([clause.c[name] for name in images.table.identity]).in_(
            sa.select(*keys).where(*only)
        )
        return self._gate.run(sa.update(clause).values(new).where(among)).rowcount
