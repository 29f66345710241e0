"""Runs taken back after other things happened, and what of a run is kept, on the three engines."""

from __future__ import annotations

import json
import os
import resource
import sqlite3
import subprocess
import sys
from pathlib import Path
from typing import Any

import pytest

from tests.conftest import Yeldro
from tests.servers import Server, served
from yeldro.core.database.abilities import Mode
from yeldro.engines.shared.connection import SqlDatabase
from yeldro.errors import DatabaseFailed

TABLES = [
    "CREATE TABLE weirs (id INTEGER PRIMARY KEY, name VARCHAR(20) UNIQUE, depth FLOAT)",
    "CREATE TABLE gates (id INTEGER PRIMARY KEY, weir_id INTEGER NOT NULL, twin_id INTEGER,"
    " FOREIGN KEY (weir_id) REFERENCES weirs (id) ON DELETE CASCADE, FOREIGN KEY (twin_id) REFERENCES gates (id))",
    "CREATE TABLE notes (id INTEGER PRIMARY KEY, weir_id INTEGER, text VARCHAR(20),"
    " FOREIGN KEY (weir_id) REFERENCES weirs (id) ON DELETE SET NULL)",
    "CREATE TABLE log (id INTEGER, text VARCHAR(20))",
    "INSERT INTO weirs VALUES (1, 'a', 0.1), (2, 'b', NULL), (3, 'c', 2.5), (4, 'd', 1)",
    "INSERT INTO gates VALUES (1, 1, NULL), (2, 1, 1), (3, 2, NULL), (4, 3, NULL)",
    "INSERT INTO notes VALUES (1, 1, 'x'), (2, 2, 'y'), (3, 3, 'z'), (4, NULL, '')",
]
ON_INSERT = {
    "sqlite": "CREATE TRIGGER t AFTER INSERT ON weirs BEGIN {}; END",
    "mariadb": "CREATE TRIGGER t {time} INSERT ON weirs FOR EACH ROW {}",
    "postgresql": "CREATE FUNCTION f() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN {}; RETURN NEW; END $$;"
    " CREATE TRIGGER t {time} INSERT ON weirs FOR EACH ROW EXECUTE FUNCTION f()",
}
ALTERING = {
    "sqlite": "UPDATE weirs SET depth = 9 WHERE id = NEW.id",
    "mariadb": "SET NEW.depth = 9",
    "postgresql": "NEW.depth = 9",
}
START, SPOILT = "as before the run", "as it was found"

# What happened after the run, options of restore, its exit status, what it says, and the tables
# then: START, SPOILT, or SPOILT with the keys that came back.
CASES: list[tuple[list[str], list[str], int, str, Any]] = [
    ([], [], 0, "Committed", START),
    ([], ["--rehearse"], 0, "Rehearsed", SPOILT),
    (["INSERT INTO weirs VALUES (1, 'a', 0.1)"], [], 0, "Committed", START),
    (["INSERT INTO weirs VALUES (1, 'a', 0.2)"], [], 3, "Rows with other values have taken 1 of the keys of weirs",
     SPOILT),
    (["INSERT INTO weirs VALUES (1, 'A', 0.2)"], ["--differing", "keep"], 0,
     "there with other values; it is left alone", {"weirs": [2], "gates": [1, 2, 3], "notes": [1, 2]}),
    (["INSERT INTO weirs VALUES (9, 'a', 1)"], [], 5, "a constraint|refused", SPOILT),
    (["ALTER TABLE weirs ADD COLUMN extra INTEGER"], [], 0, "Committed", START),
    (["ALTER TABLE weirs ADD COLUMN extra INTEGER DEFAULT 5 NOT NULL"], [], 0, "Committed", START),
    (["ALTER TABLE weirs DROP COLUMN depth"], [], 3, "weirs has no column depth any more", SPOILT),
    (["ALTER TABLE gates RENAME TO doors"], [], 3, "The table gates of the run is not in this database", SPOILT),
    (["UPDATE notes SET weir_id = 3 WHERE id = 1"], [], 0, "1 row of notes is not as the run left it", {"weirs": [
     1, 2], "gates": [1, 2, 3], "notes": [2]}),
    (["DELETE FROM notes WHERE id = 1"], [], 0, "1 row of notes that the run changed is gone", {"weirs": [1, 2],
     "gates": [1, 2, 3], "notes": [2]}),
    (["UPDATE notes SET text = 'new' WHERE id = 1"], [], 0, "Committed", {"weirs": [1, 2], "gates": [1, 2, 3], "notes"
     : [1, 2]}),
    ([], ["--key", "1"], 0, "Committed", {"weirs": [1], "gates": [1, 2], "notes": [1]}),
    ([], ["--key", "1", "--table", "weirs"], 0, "Committed", {"weirs": [1]}),
    ([], ["--table", "weirs"], 0, "Committed", {"weirs": [1, 2]}),
    ([], ["--table", "gates"], 3, "3 rows of gates reference rows of weirs that are gone", SPOILT),
    ([], ["--key", "900"], 2, "The run archived no row of weirs with that key", SPOILT),
    ([], ["--table", "log"], 2, "The run touched no row of log", SPOILT),
    (["altering trigger"], [], 3,
     "weirs: 2 rows were to be restored, 0 are as they were (depth differs); the likely cause", SPOILT),
    (["logging trigger"], [], 0, "Committed", {"weirs": [1, 2], "gates": [1, 2, 3], "notes": [1, 2], "log": [1, 2]}),
]  # fmt: skip


def images(server: Server) -> dict[str, dict[int, Any]]:
    """The rows of each table that is there, by their first column; columns that came later are left
    out."""
    names = {row[0] for row in server.query(NAMES[server.engine])}
    counted = {"weirs": 3, "gates": 3, "doors": 3, "notes": 3, "log": 2}
    return {
        name: {row[0]: row[:columns] for row in server.query(f"SELECT * FROM {name}")}
        for name, columns in counted.items()
        if name in names
    }


NAMES = {
    "sqlite": "SELECT name FROM sqlite_master",
    "postgresql": "SELECT relname FROM pg_class",
    "mariadb": "SHOW TABLES",
}


def spoil(server: Server, statement: str) -> str:
    time, body = "AFTER", "INSERT INTO log VALUES (NEW.id, '')"
    if statement == "altering trigger":
        time, body = "BEFORE", ALTERING[server.engine]
    return ON_INSERT[server.engine].format(body, time=time) if "trigger" in statement else statement


@pytest.mark.parametrize(
    ("happened", "options", "status", "said", "then"), CASES, ids=lambda value: str(value)[:60]
)
def test_a_restoration(
    yeldro: Yeldro,
    server: Server,
    happened: list[str],
    options: list[str],
    status: int,
    said: str,
    then: Any,
) -> None:
    server.run(TABLES)
    before = images(server)
    assert yeldro("delete", "weirs", "--db", server.place, "--where", "id < 3", "--yes").status == 0
    server.run([spoil(server, one) for one in happened])
    found = images(server)
    result = yeldro("restore", "last", "--yes", *options)
    text = result.out + result.err
    assert (result.status, any(word in text for word in said.split("|"))) == (status, True), text
    wanted = {START: before, SPOILT: found}.get(then) if isinstance(then, str) else found
    assert wanted is not None
    if isinstance(then, dict):
        for name, keys in then.items():
            for key in keys:
                old = before[name].get(key, (key, ""))
                wanted[name][key] = (
                    (*old[:2], "new")
                    if "SET text" in "".join(happened) and name == "notes" and key == 1
                    else old
                )
    assert images(server) == wanted
    if status == 0 and "--rehearse" not in options:
        again = yeldro("restore", "last", "--yes", *options, "--format", "json").document
        assert (again["outcome"], images(server)) == ("nothing-to-restore", wanted)


def delete(
    yeldro: Yeldro,
    server: Server,
    *options: str,
    table: str = "weirs",
    where: str = "id < 3",
    place: str = "",
) -> dict[str, Any]:
    result = yeldro(
        "delete",
        table,
        "--db",
        place or server.place,
        "--where",
        where,
        "--yes",
        "--format",
        "json",
        *options,
    )
    return {**json.loads(result.out), "status": result.status}


def test_a_copy_in_the_database_itself(yeldro: Yeldro, server: Server) -> None:
    """The copy holds the rows, a taken name is refused, and a run that is undone leaves no table
    behind."""
    server.run(TABLES)
    before, names = images(server), server.query(NAMES[server.engine])
    for options in (["--archive-table", "LOG"], ["--archive-table", "old", "--max-rows", "1"]):
        refused = delete(yeldro, server, *options)
        assert (refused["status"], images(server), server.query(NAMES[server.engine])) == (
            3,
            before,
            names,
        )
    committed = delete(yeldro, server, "--archive-table", "old")
    assert committed["outcome"] == "committed"
    copies = {
        name: server.query(f"SELECT * FROM {name} ORDER BY 1")
        for name in ("old", "old_gates", "old_notes")
    }
    assert {name: [row[:-1] for row in rows] for name, rows in copies.items()} == {
        "old": [before["weirs"][1], before["weirs"][2]],
        "old_gates": [before["gates"][key] for key in (1, 2, 3)],
        "old_notes": [before["notes"][key] for key in (1, 2)],
    }
    assert yeldro("restore", "last", "--yes", "--format", "json").document["outcome"] == "committed"
    assert images(server) == before


def test_columns_that_are_left_out(yeldro: Yeldro, server: Server) -> None:
    server.run(TABLES)
    before = images(server)
    for columns in ("id", "gates.twin_id,gates.id", "nothing"):
        assert delete(yeldro, server, "--leave-out", columns)["status"] == 2
    result = yeldro(
        "delete weirs --db", server.place, "--key", "1", "--leave-out", "depth,notes.text", "--yes"
    )
    assert (
        "The archive goes without depth,notes.text: what is restored from it is not whole"
        in result.err
    )
    result = yeldro("restore", "last", "--yes")
    assert "weirs.depth is not in the archive: it comes back as its default" in result.out
    assert images(server) == {**before, "weirs": {**before["weirs"], 1: (1, "a", None)}}


def test_what_a_record_holds_and_who_may_read_it(
    yeldro: Yeldro, server: Server, tmp_path: Path
) -> None:
    server.run(TABLES)
    place = server.place.replace(
        "postgres@", "postgres:secret@"
    )  # which that server does not ask for
    mask = os.umask(0)
    try:
        document = delete(yeldro, server, place=place)
    finally:
        os.umask(mask)
    folder = tmp_path / "yeldro-runs" / document["run"]
    modes = {
        path.name: path.stat().st_mode & 0o777
        for path in (folder, folder.parent, *folder.iterdir())
    }
    assert modes == {
        folder.name: 0o700,
        "yeldro-runs": 0o700,
        **dict.fromkeys(("run.json", "run.sql", "rows.sqlite"), 0o600),
    }
    kept = "".join(path.read_text() for path in folder.glob("run.*"))
    assert "secret" not in kept
    facts = json.loads((folder / "run.json").read_text())
    assert (facts["outcome"], facts["matched"], facts["tally"]) == (
        "committed",
        2,
        document["tally"],
    )
    statements = (folder / "run.sql").read_text().upper()
    assert statements.index("DELETE") < statements.rindex("COMMIT")
    archive = sqlite3.connect(folder / "rows.sqlite")
    assert [tuple(map(str, row)) for row in archive.execute("SELECT id, name FROM weirs")] == [
        ("1", "a"),
        ("2", "b"),
    ]
    columns = [column[0] for column in archive.execute("SELECT * FROM gates").description]
    actions = archive.execute(
        "SELECT shown_as, action, rows FROM yeldro_portions ORDER BY 1"
    ).fetchall()
    assert (columns, actions) == (
        ["id", "weir_id", "twin_id"],
        [("gates", "delete", 3), ("notes", "detach", 2), ("weirs", "delete", 2)],
    )
    archive.close()


def test_history(yeldro: Yeldro, server: Server, tmp_path: Path) -> None:
    server.run(TABLES)
    elsewhere = ["--archive", str(tmp_path / "kept")]
    first = delete(yeldro, server, *elsewhere)["run"]
    assert delete(yeldro, server, *elsewhere, "--rehearse", where="id = 3")["run"] is None
    second = delete(yeldro, server, *elsewhere, "--no-archive", where="id = 3")["run"]
    refused = yeldro("restore", second, "--yes", *elsewhere)
    assert (refused.status, "kept no archive" in refused.err) == (3, True)
    yeldro("restore", first, "--yes", "--table", "weirs", *elsewhere)
    runs = yeldro("history", "--format", "json", *elsewhere).document["runs"]
    assert [(run["run"], run["outcome"], run["restored"], run["rows"]) for run in runs] == [
        (second, "committed", None, 3),
        (first, "committed", "partly", 7),
    ]
    assert [
        line.split(",")[0]
        for line in yeldro("history", "--format", "csv", *elsewhere).out.splitlines()
    ] == [
        "run",
        second,
        first,
    ]
    account = yeldro("history", first, *elsewhere).out
    assert all(word in account for word in ("asked", "id < 3", "Tally", "rows.sqlite", "restored"))
    assert yeldro("history", "--drop", *elsewhere).status == 2
    assert yeldro("history", first, "--drop", *elsewhere).status == 2  # nobody to ask
    assert yeldro("history", "--drop", "--older-than", "1", "--yes", *elsewhere).status == 0
    assert len(list((tmp_path / "kept").iterdir())) == 2
    assert yeldro("history", first, "--drop", "--yes", *elsewhere).status == 0
    assert {path.name for path in (tmp_path / "kept").iterdir()} == {second, "dropped.jsonl"}


NUMBERED = {
    "sqlite": "INTEGER PRIMARY KEY AUTOINCREMENT",
    "postgresql": "INTEGER GENERATED BY DEFAULT AS IDENTITY PRIMARY KEY",
    "mariadb": "INTEGER PRIMARY KEY AUTO_INCREMENT",
}


def test_into_another_database(yeldro: Yeldro, server: Server, tmp_path: Path) -> None:
    """Numbers that the other database gives out afterwards are not those of restored rows."""
    table = f"CREATE TABLE weirs (id {NUMBERED[server.engine]}, name VARCHAR(20), depth INTEGER)"
    server.run([table, *(f"INSERT INTO weirs (name) VALUES ('{name}')" for name in "abc")])
    before = server.query("SELECT * FROM weirs ORDER BY id")
    assert yeldro("delete", "weirs", "--db", server.place, "--all-rows", "--yes").status == 0
    with served(server.engine, tmp_path) as other:
        other.run([table, "INSERT INTO weirs VALUES (1, 'a', NULL)"])
        result = yeldro("restore", "last", "--into", other.place, "--yes")
        assert (result.status, other.query("SELECT * FROM weirs ORDER BY id")) == (0, before)
        other.run(["INSERT INTO weirs (name) VALUES ('d')"])
        assert [row[0] for row in other.query("SELECT id FROM weirs ORDER BY id")] == [1, 2, 3, 4]
    runs = yeldro("history", "--format", "json").document["runs"]
    assert (runs[0]["restored"], server.query("SELECT * FROM weirs")) == (None, [])


@pytest.mark.parametrize("committed", [True, False])
def test_a_commit_whose_answer_is_lost(
    yeldro: Yeldro, server: Server, monkeypatch: pytest.MonkeyPatch, committed: bool
) -> None:
    """The run is in doubt until history looks the rows up; then it is what it was."""
    server.run(TABLES)
    before = images(server)
    original = SqlDatabase.commit

    def lose(database: SqlDatabase) -> None:
        mode = database.mode
        if committed or mode is Mode.READ:
            original(database)
        if mode is Mode.WRITE:
            raise DatabaseFailed("The connection to the server was lost.")

    for command in ("delete", "restore"):
        with monkeypatch.context() as patch:
            patch.setattr(SqlDatabase, "commit", lose)
            if command == "delete":
                document = delete(yeldro, server)
            else:
                document = yeldro("restore", "last", "--yes", "--format", "json").document
        state = (document["outcome"], images(server) == before)
        assert state == ("in-doubt", committed == (command == "restore")), document["reason"]
        listed = yeldro("history", "--format", "json").document["runs"][0]
        if command == "delete":
            assert listed["outcome"] == ("committed" if committed else "rolled-back")
            if not committed:
                assert yeldro("restore", "last", "--yes").status == 0
                assert delete(yeldro, server)["outcome"] == "committed"
        else:
            assert listed["restored"] == ("yes" if committed else None)


def test_a_full_disk(server: Server, tmp_path: Path) -> None:
    """Nothing larger than a few pages can be written: the run is rolled back, and no half archive
    is left."""
    filled = ", ".join(f"({number}, 'weir number {number}', 0)" for number in range(100, 3000))
    server.run([*TABLES, f"INSERT INTO weirs VALUES {filled}"])
    before = images(server)

    def limit() -> None:
        resource.setrlimit(resource.RLIMIT_FSIZE, (60_000, 60_000))

    command = [
        sys.executable,
        "-m",
        "yeldro",
        "delete",
        "weirs",
        "--db",
        server.place,
        "--where",
        "id > 99",
        "--yes",
    ]
    result = subprocess.run(command, cwd=tmp_path, preexec_fn=limit, capture_output=True, text=True)
    assert (result.returncode, "The archive" in result.stderr) == (5, True), result.stderr
    assert images(server) == before
    records = [json.loads(path.read_text()) for path in tmp_path.glob("yeldro-runs/*/run.json")]
    assert [record["outcome"] for record in records] == ["rolled-back"]
    assert list(tmp_path.glob("yeldro-runs/*/rows*")) == []


def test_nothing_else_is_overwritten_or_touched(yeldro: Yeldro, server: Server) -> None:
    """What would replace rows that are in the way may not, and no column changes by itself."""
    more = {
        "sqlite": ("name TEXT UNIQUE ON CONFLICT REPLACE", "''"),
        "mariadb": (
            "touched TIMESTAMP(6) NOT NULL DEFAULT '2001-02-03' ON UPDATE current_timestamp(6)",
            "DEFAULT",
        ),
        "postgresql": ("name TEXT UNIQUE", "''"),
    }[server.engine]
    server.run(
        *TABLES[:2],
        f"CREATE TABLE posts (id INTEGER PRIMARY KEY, weir_id INTEGER, {more[0]},"
        " FOREIGN KEY (weir_id) REFERENCES weirs (id) ON DELETE SET NULL)",
        *TABLES[4:5],
        f"INSERT INTO posts VALUES (1, 1, {more[1]})",
    )
    before = server.query("SELECT * FROM posts")
    assert delete(yeldro, server)["outcome"] == "committed"
    assert server.query("SELECT * FROM posts") == [(1, None, *before[0][2:])]
    assert yeldro("restore", "last", "--yes").status == 0
    assert server.query("SELECT * FROM posts") == before
    if server.engine != "mariadb":
        assert (
            delete(yeldro, server, "--all-rows", table="posts", where="id = 1")["outcome"]
            == "committed"
        )
        server.run(["INSERT INTO posts VALUES (2, NULL, '')"])
        assert yeldro("restore", "last", "--yes").status == 5
        assert server.query("SELECT id FROM posts") == [(2,)]


@pytest.mark.parametrize("kept", [-1, 0, 1])
def test_an_archive_that_is_not_whole_blocks_the_run(
    yeldro: Yeldro, server: Server, monkeypatch: pytest.MonkeyPatch, kept: int
) -> None:
    server.run(TABLES)
    before = images(server)
    kind = type(server.open().archive)
    original = kind.extract
    monkeypatch.setattr(kind, "extract", lambda *given: [rows + kept for rows in original(*given)])
    document = delete(yeldro, server)
    assert (document["status"], images(server) == before) == ((3, True) if kept else (0, False))


def test_the_archive_holds_the_latest_values(
    yeldro: Yeldro, server: Server, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Others change a row after the transaction has begun to look and before it is locked."""
    server.run(TABLES)
    original = SqlDatabase.pull

    def late(database: SqlDatabase, *given: Any, **named: Any) -> int:
        if database.mode is Mode.WRITE and server.engine == "mariadb":
            database.count_rows(database.schema.find_table("notes"))
            server.run(["UPDATE notes SET text = 'late' WHERE id = 1"])
        return original(database, *given, **named)

    monkeypatch.setattr(SqlDatabase, "pull", late)
    run = delete(yeldro, server, "--dependents", "notes=delete")["run"]
    assert run, "nothing was deleted"
    monkeypatch.undo()
    assert yeldro("restore", run, "--yes", "--db", server.place).status == 0
    assert images(server)["notes"][1][2] == ("late" if server.engine == "mariadb" else "x")


@pytest.mark.parametrize("any_server", ["sqlite", "postgresql"], indirect=True)
def test_rows_that_nothing_tells_apart_are_attached_again(yeldro: Yeldro, server: Server) -> None:
    """MariaDB has no name for such rows: nothing of theirs is changed there in the first place."""
    server.run(
        TABLES[0],
        "CREATE TABLE marks (text VARCHAR(9), weir_id INTEGER REFERENCES weirs (id) ON DELETE SET NULL)",
        TABLES[4],
        "INSERT INTO marks VALUES ('x', 1), ('x', 2), ('x', 1), ('x', NULL), ('y', 1), (NULL, 2), ('z', 3)",
    )
    query = "SELECT text, weir_id, count(*) FROM marks GROUP BY text, weir_id ORDER BY 1, 2"
    before = server.query(query)
    assert delete(yeldro, server)["outcome"] == "committed"
    assert ("x", None, 4) in server.query(query)
    for outcome in ("committed", "nothing-to-restore"):
        document = yeldro("restore", "last", "--yes", "--format", "json").document
        assert document["outcome"] == outcome, document["reason"]
        assert server.query(query) == before
    assert delete(yeldro, server)["outcome"] == "committed"
    server.run(
        "INSERT INTO marks VALUES ('x', 3)", "UPDATE marks SET text = 'new' WHERE text = 'y'"
    )
    assert (
        yeldro("restore", "last", "--yes", "--format", "json").document["outcome"] == "rolled-back"
    )
    server.run(
        "ALTER TABLE marks ADD COLUMN twin_id INTEGER REFERENCES weirs (id) ON DELETE SET NULL"
    )
    server.run(["UPDATE marks SET twin_id = 3, weir_id = 3 WHERE text = 'z'"])
    assert (
        delete(yeldro, server, where="id = 3")["status"],
        delete(yeldro, server, where="id = 4")["status"],
    ) == (
        3,
        0,
    )
