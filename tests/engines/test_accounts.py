"""Accounts that may do little: what they see is what an administrator sees, and what they lack is
said before a run."""

from __future__ import annotations

import json
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

import pytest

from tests.conftest import Yeldro
from tests.engines.test_unseen import FAMILY, on
from tests.servers import Server, login, rows

TABLES = [
    "CREATE TABLE weirs (id INTEGER PRIMARY KEY, name VARCHAR(20), up INTEGER, depth FLOAT,"
     " FOREIGN KEY (up) REFERENCES weirs (id) ON DELETE CASCADE)",
    "CREATE TABLE gates (weir INTEGER NOT NULL, part VARCHAR(9) NOT NULL, note TEXT, PRIMARY KEY (weir, part),"
     " FOREIGN KEY (weir) REFERENCES weirs (id) ON DELETE CASCADE)",
    "CREATE TABLE marks (code VARCHAR(9) NOT NULL PRIMARY KEY, weir INTEGER, part VARCHAR(9),"
     " FOREIGN KEY (weir, part) REFERENCES gates (weir, part) ON DELETE SET NULL)",
    "CREATE TABLE notes (n INTEGER, t VARCHAR(9))",
    "INSERT INTO weirs VALUES (1, 'a', NULL, 0.1), (2, 'b', 1, 0.2), (3, 'c', 2, NULL), (4, 'b', NULL, 0.2)",
    "INSERT INTO gates VALUES (1, 'x', NULL), (2, 'y', 'n'), (3, 'ü', 'n'), (4, 'x', '')",
    "INSERT INTO marks VALUES ('é', 3, 'ü'), ('B', 4, 'x'), ('C', NULL, NULL)",
    "INSERT INTO notes VALUES (1, 'a'), (1, 'a'), (2, NULL)",
]  # fmt: skip
LINES = [
    *(
        "survey",
        "survey weirs marks",
        "map",
        "map weirs --key 1",
        "preview weirs --where id<3",
        "preview marks --key é",
    ),
    *(
        "preview weirs --key 4 --key 77",
        "preview gates --where note='n' --dependents delete",
        "preview notes --where n=1",
    ),
    *(
        "preview gates --not-found-in marks --on weir=weir,part=part",
        "preview weirs --order-by depth --limit 2",
    ),
    *(
        "duplicates weirs --same name",
        "duplicates gates --same note",
        "duplicates notes --same all",
        "review s.sql",
    ),
]


def plain(told: Any) -> Any:
    """Without what is said about the account itself."""
    if isinstance(told, dict):
        return {name: plain(one) for name, one in told.items()}
    if isinstance(told, list):
        return [
            plain(one)
            for one in told
            if not (isinstance(one, dict) and one.get("name") == "hidden-reference")
        ]
    return told


def compare(yeldro: Yeldro, place: str, other: str) -> None:
    """Every command tells both the same."""
    for line in LINES:
        told: list[Any] = []
        for one in (place, other):
            done = yeldro(*line.split(), "--db", one, "--format", "json")
            assert done.status in (0, 3), (line, done.err, done.out)
            told.append(plain(json.loads(done.out.replace(one, "it"))))
        assert told[0] == told[1], line


@contextmanager
def changed(server: Server, setting: str, value: str, back: str) -> Iterator[None]:
    server.run([f"SET GLOBAL {setting} = {value}"])
    try:
        yield
    finally:
        server.run([f"SET GLOBAL {setting} = {back}"])


@on("postgresql", "mariadb")
def test_who_may_only_select_sees_the_same(yeldro: Yeldro, server: Server, tmp_path: Any) -> None:
    (tmp_path / "s.sql").write_text(
        "DELETE FROM weirs WHERE id < 3; DELETE FROM gates WHERE note = 'n'"
    )
    server.run(TABLES)
    name = server.place.rpartition("/")[2]
    if server.engine == "postgresql":
        server.run(f"REVOKE TEMPORARY ON DATABASE {name} FROM PUBLIC")
    grants = (
        ["SELECT ON ALL TABLES IN SCHEMA public", "USAGE ON SCHEMA public"]
        if server.engine == "postgresql"
        else [f"SELECT ON {name}.*"]
    )
    if server.engine == "mariadb":
        grants.append("PROCESS, TRIGGER ON *.*")
    with login(server, *grants) as place:
        compare(yeldro, place, server.place)
        seen = yeldro("preview", "weirs", "--key", "1", "--db", place)
        assert ("makes no temporary tables" in seen.err, "GRANT" in seen.err) == (True, True), (
            seen.err
        )
        done = yeldro("delete", "weirs", "--key", "1", "--yes", "--db", place)
        assert (done.status, "GRANT" in done.err, done.out) == (5, True, done.out), done.err
        moving = yeldro(
            "duplicates", "weirs", "--same", "name", "--keep", "lowest id", "--db", place
        )
        assert (moving.status, "needs a temporary table" in moving.err) == (3, True), moving.err
    server.run("UPDATE weirs SET up = NULL")


@on("postgresql")
def test_a_session_that_is_read_only_by_default(yeldro: Yeldro, server: Server) -> None:
    server.run(TABLES)
    place = f"{server.place}?options=-cdefault_transaction_read_only%3Don"
    looked = yeldro("preview", "weirs", "--key", "1", "--db", place)
    assert (looked.status, looked.err) == (0, "")
    done = yeldro("delete", "weirs", "--key", "4", "--yes", "--db", place)
    assert (done.status, "default_transaction_read_only is set" in done.err) == (5, True), done.err


@on("mariadb")
@pytest.mark.alone
@pytest.mark.parametrize("setting", ["tx_read_only", "read_only"])
def test_a_server_that_is_read_only(
    yeldro: Yeldro, server: Server, tmp_path: Any, setting: str
) -> None:
    (tmp_path / "s.sql").write_text("DELETE FROM weirs WHERE id < 3")
    server.run(TABLES)
    grants = ("SELECT, CREATE TEMPORARY TABLES ON {0}.*", "PROCESS, TRIGGER ON *.*")
    with login(server, *grants) as place, changed(server, setting, "1", "0"):
        compare(yeldro, place, server.place)


# What each command needs on the tables that it touches, beside what looking needs: the table of
# docs/databases.md.
LOOKING = {
    "postgresql": ["TEMPORARY ON DATABASE {0}", "USAGE ON SCHEMA public", "SELECT ON p, c"],
    "mariadb": [
        "CREATE TEMPORARY TABLES ON {0}.*",
        "SELECT ON {0}.*",
        "PROCESS ON *.*",
        "TRIGGER ON *.*",
    ],
}
COMMANDS: dict[str, tuple[list[str], dict[str, list[str]]]] = {
    "preview": (["preview", "p", "--key", "1"], {"postgresql": [], "mariadb": []}),
    "delete": (
        ["delete", "p", "--key", "1", "--yes"],
        {"postgresql": ["DELETE ON p, c", "UPDATE ON p"], "mariadb": ["DELETE ON {0}.*"]},
    ),
    "clear": (
        ["clear", "p", "--key", "1", "--columns", "name", "--yes"],
        {"postgresql": ["UPDATE ON p"], "mariadb": ["UPDATE ON {0}.*"]},
    ),
    "dedupe": (
        ["dedupe", "p", "--same", "name", "--keep", "lowest id", "--yes"],
        {
            "postgresql": ["DELETE ON p", "UPDATE ON p, c"],
            "mariadb": ["DELETE ON {0}.*", "UPDATE ON {0}.*"],
        },
    ),
    "restore": (
        ["restore", "last", "--yes"],
        {"postgresql": ["INSERT ON p, c"], "mariadb": ["INSERT ON {0}.*"]},
    ),
}


@on("postgresql", "mariadb")
@pytest.mark.parametrize("command", COMMANDS)
def test_these_grants_are_enough_and_none_is_too_much(
    yeldro: Yeldro, server: Server, command: str
) -> None:
    line, more = COMMANDS[command]
    needed = more[server.engine]
    for missing in ["", *needed]:
        server.clear()
        server.run(FAMILY)
        if command == "restore":
            assert yeldro("delete", "p", "--key", "1", "--yes", "--db", server.place).status == 0
        before = rows(server, "p", "c")
        grants = [one for one in [*LOOKING[server.engine], *needed] if one != missing]
        with login(server, *grants) as place:
            done = yeldro(*line, "--db", place)
        if missing:
            assert (done.status, "GRANT" in done.err, "Tally" in done.out) == (5, True, False), (
                missing,
                done.err,
            )
        else:
            assert done.status == 0, done.err
        assert (rows(server, "p", "c") == before) == bool(missing or command == "preview"), missing
