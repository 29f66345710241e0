"""Settings that change what a value or a statement means are pinned, and a commit is believed only
when it happened."""

from __future__ import annotations

from contextlib import closing, suppress
from typing import Any

import pytest

from tests.servers import Server
from yeldro.core.database.abilities import Mode
from yeldro.errors import DatabaseFailed, YeldroError

LOOSE = {
    "timezone": "Asia/Tokyo",
    "datestyle": "SQL, DMY",
    "standard_conforming_strings": "off",
    "session_replication_role": "replica",
    "bytea_output": "escape",
}
PINNED = {
    "sqlite": ["PRAGMA foreign_keys"],
    "postgresql": [f"SHOW {name}" for name in LOOSE] + ["SHOW row_security"],
    "mariadb": [
        f"SELECT @@{name}" for name in ("time_zone", "foreign_key_checks", "sql_select_limit")
    ]
    + [
        "SELECT find_in_set('STRICT_ALL_TABLES', @@sql_mode) > 0 AND find_in_set('ANSI_QUOTES', @@sql_mode) = 0"
    ],
}
VALUES = {
    "sqlite": [1],
    "postgresql": ["UTC", "ISO, YMD", "on", "origin", "hex", "off"],
    "mariadb": ["+00:00", 1, 18446744073709551615, 1],
}


def test_settings_are_pinned_whatever_the_server_says(server: Server) -> None:
    if server.engine == "postgresql":
        name = server.place.rpartition("/")[2]
        server.run(
            [f"ALTER DATABASE {name} SET {setting} = '{value}'" for setting, value in LOOSE.items()]
        )
    database: Any = server.open()
    found = [database.gate.run_text(query).scalar_one() for query in PINNED[server.engine]]
    database.close()
    if server.engine == "postgresql":
        server.run([f"ALTER DATABASE {server.place.rpartition('/')[2]} RESET ALL"])
    assert found == VALUES[server.engine]


def test_a_commit_that_the_server_turned_into_a_rollback_is_noticed(server: Server) -> None:
    server.run(["CREATE TABLE notes (id INTEGER PRIMARY KEY)", "INSERT INTO notes VALUES (1)"])
    database: Any = server.open()
    database.begin(Mode.WRITE)
    if server.engine == "postgresql":
        with suppress(YeldroError):
            database.gate.run_text("SELECT 1 / 0")
    else:
        database.raw.rollback() if server.engine == "mariadb" else database.raw.execute("ROLLBACK")
    with pytest.raises(DatabaseFailed):
        database.commit()
    database.close()


def test_what_ends_the_transaction_is_noticed_at_once(server: Server) -> None:
    if server.engine != "mariadb":
        return
    server.run(["CREATE TABLE notes (id INTEGER PRIMARY KEY)"])
    database: Any = server.open()
    database.begin(Mode.WRITE)
    with pytest.raises(DatabaseFailed, match="ended the transaction"):
        database.gate.run_text("CREATE TABLE more (id INTEGER PRIMARY KEY)")
    database.close()


def test_a_preview_cannot_write(server: Server) -> None:
    server.run(["CREATE TABLE notes (id INTEGER PRIMARY KEY)", "INSERT INTO notes VALUES (1)"])
    database: Any = server.open()
    with closing(database):  # else nobody could drop the table
        database.begin(Mode.READ)
        with pytest.raises(YeldroError):
            database.gate.run_text("DELETE FROM notes")
        database.rollback()
    assert server.query("SELECT id FROM notes") == [(1,)]
