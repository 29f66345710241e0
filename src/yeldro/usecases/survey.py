"""Look at the tables of a database."""

from __future__ import annotations

from collections.abc import Sequence

from yeldro.core.database.connection import Database
from yeldro.core.model.schema import Table, is_pattern
from yeldro.core.survey.survey import TableSurvey, find_survey
from yeldro.usecases.transaction import looking


def survey(database: Database, names: Sequence[str]) -> list[TableSurvey]:
    """Look at the whole database, or at those of its tables that fit some patterns, or closely at
    some that are named one by one."""
    tables = find_tables(database, names)
    closely = bool(names) and not any(map(is_pattern, names))
    with looking(database):
        return find_survey(database, tables, closely=closely)


def find_tables(database: Database, names: Sequence[str]) -> list[Table]:
    """The tables that were named, or all."""
    found = [table for name in names for table in database.schema.find_tables(name)]
    return list(dict.fromkeys(found)) if names else list(database.schema.tables)
