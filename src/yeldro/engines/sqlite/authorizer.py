"""What SQLite lets a connection do, and what its errors mean."""

from __future__ import annotations

import sqlite3

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
