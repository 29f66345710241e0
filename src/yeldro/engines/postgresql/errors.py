"""What PostgreSQL's errors mean, by the class of the SQLSTATE
(https://www.postgresql.org/docs/current/errcodes-appendix.html). Most texts may repeat values of
rows, so only those of wrong statements and missing rights are shown."""

from __future__ import annotations

import re

import psycopg
from psycopg import errors as codes

from yeldro.errors import (
    BadStatement,
    Conflict,
    ConstraintBroken,
    DatabaseFailed,
    NotAllowed,
    TookTooLong,
    YeldroError,
)

_UNCHANGED = "Nothing was changed. Preview again, or let --wait be longer."
# Classes of SQLSTATE that may come instead of the answer to a COMMIT: connection exception,
# operator intervention.
_OF_CONNECTIONS = ("08", "57")
_CONFLICTS: tuple[tuple[type[psycopg.Error], str], ...] = (
    (codes.LockNotAvailable, "No lock in time: another session holds the rows."),
    (codes.DeadlockDetected, "The database ended a deadlock with another session."),
    (codes.SerializationFailure, "Another session changed the same rows meanwhile."),
)
_MESSAGES: tuple[tuple[type[psycopg.Error] | tuple[type[psycopg.Error], ...], str], ...] = (
    (
        codes.ReadOnlySqlTransaction,
        "The transaction is read-only: a function tried to write, or this is a standby.",
    ),
    ((codes.AdminShutdown, codes.CrashShutdown), "The server ended the connection."),
)


def translate(error: BaseException) -> YeldroError:
    """An error of the driver as one of ours."""
    if not isinstance(error, psycopg.Error):
        return DatabaseFailed(f"The database failed ({type(error).__name__}).")
    if isinstance(error, codes.QueryCanceled):
        return TookTooLong(
            "The statement was cancelled or took longer than the server allows.", _UNCHANGED
        )
    for kind, message in _CONFLICTS:
        if isinstance(error, kind):
            return Conflict(message, _UNCHANGED)
    for kinds, message in _MESSAGES:
        if isinstance(error, kinds):
            return DatabaseFailed(message, _UNCHANGED)
    state = error.diag.sqlstate or ""
    if state:
        return _translate_state(state, error.diag)
    if isinstance(error, psycopg.OperationalError | psycopg.InterfaceError):
        return _lost()
    return DatabaseFailed(f"An answer of the database could not be read ({type(error).__name__}).")


def _translate_state(state: str, detail: psycopg.errors.Diagnostic) -> YeldroError:
    message = str(detail.message_primary)
    if state == "42501" or "row-level security" in message:
        return NotAllowed(f"The database refused: {message}.", _find_grant(message))
    if state.startswith("42"):
        return BadStatement(message)
    if state.startswith("22"):
        return BadStatement(
            "a value cannot be turned into the type that it is compared with. Days are written "
            "'2024-01-31'."
        )
    if state.startswith("23"):
        where = ", ".join(filter(None, (detail.table_name, detail.constraint_name)))
        return ConstraintBroken(
            f"The database refused: a constraint would be broken ({where}).", "Nothing was changed."
        )
    if state == "P0001":
        return DatabaseFailed(
            "A trigger or function refused with an error of its own.", "Nothing was changed."
        )
    if state.startswith("08"):
        return _lost()
    return DatabaseFailed(f"The database refused (SQLSTATE {state}).", "Nothing was changed.")


def is_answer(error: BaseException | None) -> bool:
    """Whether the server itself said so: an error without a state of its own, or one of the
    connection, says nothing about what became of a statement."""
    state = error.diag.sqlstate if isinstance(error, psycopg.Error) else None
    return bool(state) and not str(state).startswith(_OF_CONNECTIONS)


def _lost() -> DatabaseFailed:
    return DatabaseFailed(
        "The connection to the server was lost.", "What was not committed was rolled back."
    )


def _find_grant(message: str) -> str:
    """What would give the right that is missing."""
    if temporary := re.fullmatch(
        r'permission denied to create temporary tables in database "(.+)"', message
    ):
        return f"GRANT TEMPORARY ON DATABASE {temporary[1]} TO this role would give it."
    found = re.fullmatch(
        r"permission denied for (table|view|schema|sequence|function|database) (.+)", message
    )
    if not found:
        return "Another role may be needed."
    right = {
        "schema": "USAGE",
        "sequence": "USAGE",
        "function": "EXECUTE",
        "database": "TEMPORARY",
    }.get(found[1])
    words = f"{right or 'SELECT'} ON {found[1].upper().replace('VIEW', 'TABLE')} {found[2]}"
    more = "" if right else " A run also needs DELETE, and UPDATE to lock rows (docs/databases.md)."
    return f"GRANT {words} TO this role would give the right to look.{more}"
