"""What SQLite's errors mean (https://www.sqlite.org/rescode.html)."""

from __future__ import annotations

import sqlite3

from yeldro.errors import (
    BadStatement,
    ConstraintBroken,
    DatabaseFailed,
    Interrupted,
    Locked,
    YeldroError,
)


def translate(error: BaseException) -> YeldroError:
    """Map an error by SQLite's result code (https://www.sqlite.org/rescode.html)."""
    code = getattr(error, "sqlite_errorcode", 0) & 0xFF
    text = str(error)
    match code:
        case sqlite3.SQLITE_INTERRUPT:
            return Interrupted("Interrupted.")
        case sqlite3.SQLITE_BUSY | sqlite3.SQLITE_LOCKED:
            return Locked(
                "The database is locked by another program.",
                "Nothing was changed. Try again, or let --wait be longer.",
            )
        case sqlite3.SQLITE_READONLY:
            return DatabaseFailed("The database file is read-only.", "Nothing was changed.")
        case sqlite3.SQLITE_NOTADB:
            return DatabaseFailed("The file is not an SQLite database.", "Nothing was changed.")
        case sqlite3.SQLITE_CORRUPT:
            return DatabaseFailed("The database file is damaged.", "Nothing was changed.")
        case sqlite3.SQLITE_CANTOPEN:
            return DatabaseFailed(
                "The database file cannot be opened.", "Check its path and its permissions."
            )
        case sqlite3.SQLITE_FULL:
            return DatabaseFailed("The disk is full.", "Nothing was changed.")
        case sqlite3.SQLITE_ERROR:
            return BadStatement(text)
        case sqlite3.SQLITE_CONSTRAINT:
            return ConstraintBroken(f"The database refused: {text}.", "Nothing was changed.")
        case _:
            return DatabaseFailed(f"The database refused: {text}.", "Nothing was changed.")
