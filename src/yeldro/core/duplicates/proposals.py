"""Columns that were probably meant to be unique."""

from __future__ import annotations

from msgspec import Struct

from yeldro.core.database.connection import Database
from yeldro.core.model.schema import Table
from yeldro.core.survey.survey import find_distinct

# The largest share of surplus rows in columns that were probably meant to be unique.
FEW = 0.2


class Proposal(Struct, frozen=True):
    """Columns that are almost unique: `surplus` of `rows`."""

    columns: tuple[str, ...]
    rows: int
    surplus: int


def propose_same(database: Database, table: Table) -> list[Proposal]:
    """Column sets that were probably meant to be unique, the nearest to it first."""
    rows = database.count_rows(table)
    found = find_distinct(database, table, rows, database.profile(table)) if rows else ()
    near = [Proposal(names, rows, rows - distinct) for names, distinct in found if distinct < rows]
    return sorted((one for one in near if one.surplus <= FEW * rows), key=lambda one: one.surplus)
