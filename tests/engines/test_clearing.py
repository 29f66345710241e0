"""What clearing does on every engine: what is removed, what follows, what blocks it, and that it can
be taken back."""

from __future__ import annotations

import shlex
from collections.abc import Sequence
from typing import Any

import pytest

from tests.conftest import Yeldro
from tests.servers import Server, label, rows

TOWERS = (
    "CREATE TABLE towers (id INTEGER PRIMARY KEY, code VARCHAR(20) UNIQUE,"
    " name VARCHAR(40) DEFAULT 'unnamed' NOT NULL, height INTEGER DEFAULT 7, note VARCHAR(40),"
    " kind CHAR(4), up_id INTEGER DEFAULT 99, made TIMESTAMP DEFAULT CURRENT_TIMESTAMP NULL,"
    " twice INTEGER GENERATED ALWAYS AS (height * 2) STORED, peer VARCHAR(20),"
    " FOREIGN KEY (up_id) REFERENCES towers (id), FOREIGN KEY (peer) REFERENCES towers (code),"
    " CHECK (height IS NOT NULL OR kind IS NOT NULL))"
)
TABLES = [
    TOWERS,
    "CREATE TABLE lamps (id INTEGER PRIMARY KEY, code VARCHAR(20), glow INTEGER,"
    " FOREIGN KEY (code) REFERENCES towers (code) ON UPDATE CASCADE ON DELETE CASCADE)",
    "CREATE TABLE flags (id INTEGER PRIMARY KEY, code VARCHAR(20) UNIQUE,"
    " FOREIGN KEY (code) REFERENCES towers (code) ON UPDATE SET NULL)",
    "CREATE TABLE ropes (id INTEGER PRIMARY KEY, code VARCHAR(20) NOT NULL,"
    " FOREIGN KEY (code) REFERENCES towers (code){cascade})",
    "CREATE TABLE pins (id INTEGER PRIMARY KEY, code VARCHAR(20),"
    " FOREIGN KEY (code) REFERENCES towers (code))",
    "CREATE TABLE cords (id INTEGER PRIMARY KEY, code VARCHAR(20),"
    " FOREIGN KEY (code) REFERENCES flags (code))",
    "CREATE TABLE loose (a VARCHAR(9), b INTEGER)",
]
ALL = ["towers", "lamps", "flags", "ropes", "pins", "cords", "loose"]
ROWS = [
    "INSERT INTO towers (id, code, name, height, note, kind, up_id, peer) VALUES"
    " (1, 'A', 'fen', 4, 'old', 'iron', NULL, NULL), (2, 'B', 'mere', 7, NULL, NULL, 1, NULL),"
    " (3, 'C', 'beck', 9, '  ', 'oak', 1, NULL), (4, NULL, 'tarn', NULL, '', 'oak', NULL, NULL)",
    "INSERT INTO lamps VALUES (1, 'A', 5), (2, 'A', 6), (3, 'B', 7)",
    "INSERT INTO flags VALUES (1, 'B'), (2, 'C')",
    "INSERT INTO loose VALUES ('x', 1), ('x', 1), ('y', 2)",
]
AS_BEFORE = "as before"
NOTES = "SELECT note FROM towers ORDER BY id"
CODES = "SELECT code FROM towers ORDER BY id"

# More statements, the command, its status, what it says, and what queries give then.
CASES: list[tuple[list[str], str, int, str, dict[str, list[Any]] | str]] = [
    ([], "towers --where 'id < 4' --columns note", 0, "2 rows", {NOTES: [None, None, None, ""]}),
    ([], "towers --all-rows --columns note --to blank", 0, "1 of the 4", {NOTES: ["", "", "", ""]}),
    (
        [],
        "towers --all-rows --columns NOTE,kind --where 'height > 3'",
        0,
        "Committed",
        {"SELECT kind FROM towers ORDER BY id": [None, None, None, "oak"]},
    ),
    (
        [],
        "towers --where 'id > 1' --columns height,name --to default",
        0,
        "3 rows",
        {
            "SELECT height FROM towers ORDER BY id": [4, 7, 7, 7],
            "SELECT name FROM towers ORDER BY id": ["fen", "unnamed", "unnamed", "unnamed"],
            "SELECT twice FROM towers ORDER BY id": [8, 14, 14, 14],
        },
    ),
    ([], "towers --where 'id = 2' --columns note", 0, "clear already", AS_BEFORE),
    ([], "towers --where 'id < 3' --columns note --rehearse", 0, "Rehearsed", AS_BEFORE),
    # What cannot be
    ([], "towers --where 'id = 2' --columns id", 2, "part of the key", AS_BEFORE),
    ([], "towers --where 'id = 2' --columns name", 2, "--to blank or --to default", AS_BEFORE),
    ([], "towers --where 'id = 2' --columns height --to blank", 2, "which has no blank", AS_BEFORE),
    ([], "towers --where 'id = 2' --columns made --to default", 2, "worked out anew", AS_BEFORE),
    ([], "towers --where 'id = 2' --columns twice", 2, "is generated", AS_BEFORE),
    ([], "towers --where 'id = 2'", 2, "needs --columns", AS_BEFORE),
    ([], "towers --where 'id = 2' --columns heigth", 2, "height", AS_BEFORE),
    ([], "towers --columns note", 2, "", AS_BEFORE),
    ([], "towers --where 'id > 0' --columns note", 3, "--all-rows", AS_BEFORE),
    ([], "towers --where 'id > 1' --columns note --expect 2", 3, "2 rows of towers", AS_BEFORE),
    ([], "towers --where 'id < 4' --columns note --max-share 40", 3, "50", AS_BEFORE),
    ([], "towers --where 'id < 4' --columns note --max-rows 1", 3, "more than", AS_BEFORE),
    (
        [],
        "towers --where 'id < 4' --columns note --leave-out note",
        3,
        "the copy needs it",
        AS_BEFORE,
    ),
    # Of its own
    (
        [],
        "towers --where 'id < 3' --columns code --to blank --dependents detach",
        3,
        "code would not be unique",
        AS_BEFORE,
    ),
    (
        [],
        "towers --where 'id = 4' --columns code --to blank",
        0,
        "Committed",
        {CODES: ["A", "B", "C", ""]},
    ),
    (
        [],
        "towers --where 'id <> 2' --columns kind",
        3,
        "1 row of towers blocks this (cleared, CHECK",
        AS_BEFORE,
    ),
    (
        [],
        "towers --where 'id = 2' --columns up_id",
        0,
        "Committed",
        {"SELECT up_id FROM towers ORDER BY id": [None, None, 1, None]},
    ),
    (
        [],
        "towers --where 'id < 3' --columns up_id --to default",
        3,
        "2 rows of towers block this through towers.up_id",
        AS_BEFORE,
    ),
    (
        ["INSERT INTO towers (id, name, height, up_id) VALUES (99, 'hill', 1, NULL)"],
        "towers --where 'id < 3' --columns up_id --to default",
        0,
        "Committed",
        {"SELECT up_id FROM towers ORDER BY id": [99, 99, 1, None, None]},
    ),
    # What points at it
    (
        [],
        "towers --where 'id < 3' --columns code",
        0,
        "Committed",
        {
            CODES: [None, None, "C", None],
            "SELECT code FROM lamps ORDER BY id": [None, None, None],
            "SELECT code FROM flags ORDER BY id": [None, "C"],
        },
    ),
    (
        [],
        "towers --where 'id = 1' --columns code --to blank",
        3,
        "would give it the new value too",
        AS_BEFORE,
    ),
    (
        [],
        "towers --where 'id = 1' --columns code --to blank --dependents lamps=detach",
        0,
        "Committed",
        {CODES: ["", "B", "C", None], "SELECT code FROM lamps ORDER BY id": [None, None, "B"]},
    ),
    (
        [],
        "towers --where 'id < 3' --columns code --dependents lamps=stop",
        3,
        "(--dependents stop)",
        AS_BEFORE,
    ),
    (
        [],
        "towers --where 'id < 3' --columns code --dependents lamps=delete",
        2,
        "declared, detach, stop",
        AS_BEFORE,
    ),
    (
        ["INSERT INTO ropes VALUES (1, 'B')"],
        "towers --where 'id < 3' --columns code",
        3,
        "this through ropes.code",
        AS_BEFORE,
    ),
    (
        ["INSERT INTO pins VALUES (1, 'B')"],
        "towers --where 'id < 3' --columns code",
        3,
        "--dependents pins=detach would allow",
        AS_BEFORE,
    ),
    (
        ["INSERT INTO pins VALUES (1, 'B')"],
        "towers --where 'id < 3' --columns code --dependents pins=detach",
        0,
        "Committed",
        {"SELECT code FROM pins": [None]},
    ),
    (
        ["INSERT INTO cords VALUES (1, 'B')"],
        "towers --where 'id < 3' --columns code",
        3,
        "would be detached",
        AS_BEFORE,
    ),
    (
        ["UPDATE towers SET peer = 'A' WHERE id IN (1, 2)"],
        "towers --where 'id < 3' --columns code",
        3,
        "towers=detach would allow",
        AS_BEFORE,
    ),
    (
        ["UPDATE towers SET peer = 'A' WHERE id IN (1, 2)"],
        "towers --where 'id < 3' --columns code --dependents detach",
        0,
        "Committed",
        {
            CODES: [None, None, "C", None],
            "SELECT peer FROM towers ORDER BY id": [None, None, None, None],
        },
    ),
    (
        ["UPDATE towers SET peer = 'A' WHERE id IN (1, 2)"],
        "towers --where 'id < 3' --columns code,peer --dependents detach",
        3,
        "clear peer first, by itself",
        AS_BEFORE,
    ),
]


def make(server: Server, more: Sequence[str] = ()) -> None:
    # MariaDB lets no NULL be handed down to a column that may hold none.
    cascade = "" if server.engine == "mariadb" else " ON UPDATE CASCADE"
    server.run([text.replace("{cascade}", cascade) for text in TABLES], ROWS, more)


@pytest.mark.parametrize(
    ("more", "line", "status", "says", "after"),
    CASES,
    ids=[f"{label(c[1])} {n}" for n, c in enumerate(CASES)],
)
def test_what_clearing_does(
    yeldro: Yeldro,
    server: Server,
    more: list[str],
    line: str,
    status: int,
    says: str,
    after: dict[str, list[Any]] | str,
) -> None:
    """A preview says the same, and what was done is taken back exactly."""
    make(server, more)
    before = rows(server, *ALL)
    words = shlex.split(line)
    looked = yeldro("preview", *_as_preview(words))
    done = yeldro("clear", *words, "--yes" if "--rehearse" not in words else "--rehearse")
    assert (done.status, says in done.out + done.err) == (status, True), done.out + done.err
    if "--leave-out" not in words and "--columns" in words:
        assert (looked.status, says in looked.out + looked.err or not status) == (status, True), (
            looked.out + looked.err
        )
    if isinstance(after, str):
        assert rows(server, *ALL) == before
        return
    for query, values in after.items():
        assert [
            row[0].rstrip() if isinstance(row[0], str) else row[0] for row in server.query(query)
        ] == values
    back = yeldro("restore", "last", "--yes")
    assert (back.status, rows(server, *ALL)) == (0, before), back.out + back.err


def _as_preview(words: Sequence[str]) -> list[str]:
    return ["--clear" if word == "--columns" else word for word in words if word != "--rehearse"]
