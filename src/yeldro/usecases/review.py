"""Judge statements that somebody wrote."""

from __future__ import annotations

from yeldro.core.database.connection import Database
from yeldro.core.review.statements import read_script
from yeldro.core.review.verdict import Review, make_review, read_removals, tables_in_review
from yeldro.errors import UsageError
from yeldro.usecases.transaction import looking


def review(database: Database, text: str, dialect: str | None) -> Review:
    """Judge a script of statements, in a transaction that cannot change anything."""
    try:
        script = read_script(text, dialect or database.dialect)
    except ValueError:
        raise UsageError(
            f"There is no dialect {dialect!r}.", "Such as: sqlite, postgres, mysql, tsql, oracle."
        ) from None
    found = read_removals(database, script, database.dialect)
    database.prepare_key_sets(tables_in_review(database, found))
    with looking(database):
        return make_review(database, found)
