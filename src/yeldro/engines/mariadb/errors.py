"""What MariaDB's errors mean (https://mariadb.com/kb/en/mariadb-error-codes/). Most texts may
repeat values of rows, so only those of wrong statements and missing rights are shown."""

from __future__ import annotations

import re

import pymysql
import sqlalchemy as sa

from yeldro.errors import (
    BadStatement,
    Conflict,
    ConstraintBroken,
    DatabaseFailed,
    NotAllowed,
    TookTooLong,
    TooLarge,
    YeldroError,
)

# https://mariadb.com/kb/en/mariadb-error-codes/
_CONFLICTS = {
    1205: "No lock in time: another session holds the rows.",
    1213: "The database ended a deadlock with another session, or a cluster one with another node.",
    1020: "Another session changed the same rows meanwhile.",
}
# What a node of a Galera cluster says (https://mariadb.com/kb/en/galera-cluster-system-variables/).
_SMALLER = "Nothing was changed. In smaller transactions it may go: --batch."
_TOO_LARGE = {
    (1180, "wsrep_max_ws_rows"): "One transaction may not change more rows than wsrep_max_ws_rows.",
    (1105, "writeset size"): "One transaction may not change more bytes than wsrep_max_ws_size.",
}
_OF_CLUSTER = {
    1047: (
        "This node of the cluster takes no statements: it is not in the primary component, or "
        "still joining.",
        "Nothing was changed. Try another node, or wait until wsrep_ready is ON.",
    ),
    4165: (
        "The cluster does not replicate what was asked for, as wsrep_mode demands.",
        "Nothing was changed.",
    ),
}
_MESSAGES = {
    1792: "The transaction is read-only: a function tried to write.",
    1290: "The server is read-only.",
    1317: "The statement was cancelled.",
    1644: "A trigger or function refused with an error of its own.",
}
_CONSTRAINTS = {
    1048: "a column that may not be NULL would be",
    1062: "a row would be like another one in what is unique",
    1451: "other rows still reference rows that were to go",
    1452: "a reference would point at nothing",
    1526: "there is no partition for a value",
    4025: "a CHECK constraint would be broken",
}
_TOO_LONG = 1969
_UNCHANGED = "Nothing was changed. Preview again, or let --wait be longer."
# Errors after which nobody knows what the server did (https://mariadb.com/kb/en/mariadb-error-
# codes/).
_LOST = {2006, 2013, 2055, 1053, 1927}
# Numbers of the server's errors begin at 1000, and those between are the driver's own.
_FIRST, _OF_DRIVER = 1000, (2000, 2999)
# A value that does not fit the type it meets. The text of the error would repeat it.
_NOT_CONVERTED = {1292, 1366, 1406, 1411, 1525}
# A statement that the server could not make sense of. These texts name tables and columns only.
_BAD_STATEMENT = {
    1054,
    1064,
    1146,
    1305,
    1267,
    1271,
    1111,
    1241,
    1242,
    1109,
    1052,
    1128,
    1582,
    1583,
    4078,
}


def translate(error: BaseException) -> YeldroError:
    """An error of the driver as one of ours."""
    code = _find_code(error)
    if code == _TOO_LONG:
        return TookTooLong("The statement took longer than the server allows.", _UNCHANGED)
    if code in _CONFLICTS:
        return Conflict(_CONFLICTS[code], _UNCHANGED)
    if of_cluster := _translate_of_cluster(code, error):
        return of_cluster
    if code in _MESSAGES:
        return DatabaseFailed(_MESSAGES[code], _UNCHANGED)
    if code in _CONSTRAINTS:
        return ConstraintBroken(
            f"The database refused: {_CONSTRAINTS[code]}.", "Nothing was changed. Preview again."
        )
    if code in _LOST or isinstance(error, pymysql.err.InterfaceError):
        return DatabaseFailed(
            "The connection to the server was lost.", "What was not committed was rolled back."
        )
    if code in _NOT_CONVERTED:
        return BadStatement(
            "a value cannot be turned into the type that it is compared with. Days are written "
            "'2024-01-31'."
        )
    if code in _BAD_STATEMENT:
        return BadStatement(str(error.args[-1]))
    if code in (1044, 1045, 1142, 1143, 1227, 1370):
        return NotAllowed(
            f"The database refused: {error.args[-1]}.", _find_grant(str(error.args[-1]))
        )
    # Other messages may repeat values of rows.
    return DatabaseFailed(f"The database refused (error {code}).", "Nothing was changed.")


def _translate_of_cluster(code: int, error: BaseException) -> DatabaseFailed | None:
    for (number, part), message in _TOO_LARGE.items():
        if code == number and part in str(error.args[-1]):
            return TooLarge(message, _SMALLER)
    return DatabaseFailed(*_OF_CLUSTER[code]) if code in _OF_CLUSTER else None


def is_answer(error: BaseException | None) -> bool:
    """Whether the server itself said so: an error of the driver says nothing about what became of
    a statement."""
    code = _find_code(error.orig if isinstance(error, sa.exc.DBAPIError) and error.orig else error)
    return code not in _LOST and (_FIRST <= code < _OF_DRIVER[0] or code > _OF_DRIVER[1])


def _find_code(error: BaseException | None) -> int:
    """The number of an error of the driver, 0 where it has none."""
    return error.args[0] if error and error.args and isinstance(error.args[0], int) else 0


def _find_grant(message: str) -> str:
    """What would give the right that is missing."""
    found = re.match(
        r"([A-Z ,]+) command denied to user ('[^']*'@'[^']*') for (?:table|column) (\S+)", message
    )
    return (
        f"GRANT {found[1]} ON {found[3]} TO {found[2]} would give it."
        if found
        else "Another account may be needed."
    )
