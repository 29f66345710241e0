"""What SQLite lets a connection do, and what its errors mean."""

from __future__ import annotations

import sqlite3

from yeldro.errors import BadStatement, DatabaseFailed, Interrupted, Locked, YeldroError

# A Python callback now and then, after so many steps of SQLite's machine, lets Ctrl-C end a long
# statement.
LISTEN = 200_000
# Functions that load code or touch files, where a build has them. All others come with SQLite and
# only look.
OUTSIDE = (
    "load_extension",
    "fts3_tokenizer",
    "readfile",
    "writefile",
    "lsdir",
    "fsdir",
    "edit",
    "sqlar_compress",
)
# https://www.sqlite.org/c3ref/c_alter_table.html: what an authorizer sees when a statement is
# prepared.
VERBS = {
    sqlite3.SQLITE_INSERT: "insert",
    sqlite3.SQLITE_UPDATE: "update",
    sqlite3.SQLITE_DELETE: "delete",
}
# Actions that change more than rows: nothing of ours does them while it looks.
_OTHER_CHANGES = {
    getattr(sqlite3, f"SQLITE_{verb}_{kind}")
    for verb in ("CREATE", "DROP")
    for kind in ("INDEX", "TABLE", "TRIGGER", "VIEW")
} | {
    sqlite3.SQLITE_ALTER_TABLE,
    sqlite3.SQLITE_ATTACH,
    sqlite3.SQLITE_DETACH,
    sqlite3.SQLITE_REINDEX,
}


def deny_changes_of_main(
    action: int, _: str | None, __: str | None, place: str | None, ___: str | None
) -> int:
    return sqlite3.SQLITE_DENY if action in VERBS and place == "main" else sqlite3.SQLITE_OK


def deny_changes(
    action: int, _: str | None, __: str | None, place: str | None, ___: str | None
) -> int:
    changes = action in VERBS or action in _OTHER_CHANGES
    return sqlite3.SQLITE_DENY if changes and place != "temp" else sqlite3.SQLITE_OK


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
        case _:
            return DatabaseFailed(f"The database refused: {text}.", "Nothing was changed.")
