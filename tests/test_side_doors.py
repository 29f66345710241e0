"""Rows that go, come or stay through a side door roll the run back, with the cause named."""

from __future__ import annotations

import sqlite3
from collections.abc import Sequence
from contextlib import closing
from pathlib import Path

import pytest

from tests.conftest import Yeldro, digest
from tests.property.test_laws import Yes
from yeldro.core.database.abilities import Mode
from yeldro.core.reach.request import Request
from yeldro.core.run.preview import Preview
from yeldro.core.selection.selection import Asked
from yeldro.engines.open import open_database
from yeldro.errors import DatabaseFailed
from yeldro.usecases import run as running

SCHEMA = """
CREATE TABLE weirs (id INTEGER PRIMARY KEY, name TEXT, twin_id INTEGER REFERENCES weirs);
CREATE TABLE gates (id INTEGER PRIMARY KEY, weir_id INTEGER REFERENCES weirs ON DELETE CASCADE);
CREATE TABLE notes (id INTEGER PRIMARY KEY, weir INTEGER);
CREATE INDEX gates_weir ON gates (weir_id);
INSERT INTO weirs VALUES (1, 'a', NULL), (2, 'b', 1), (3, 'c', NULL);
INSERT INTO gates VALUES (1, 1), (2, 1), (3, 2), (4, 3);
INSERT INTO notes VALUES (1, 1), (2, 2), (3, 3);
"""


@pytest.fixture
def weirs(tmp_path: Path) -> Path:
    path = tmp_path / "weirs.db"
    connection = sqlite3.connect(path)
    connection.executescript(SCHEMA)
    connection.close()
    return path


TRIGGERS = [
    (
        "AFTER DELETE ON weirs BEGIN DELETE FROM notes WHERE weir = old.id; END",
        3,
        "deletes from notes",
    ),
    ("AFTER DELETE ON gates BEGIN UPDATE notes SET weir = 9 WHERE id = 3; END", 3, "updates notes"),
    ("AFTER DELETE ON weirs BEGIN INSERT INTO weirs (id) VALUES (old.id); END", 3, "are gone"),
    ("AFTER DELETE ON gates BEGIN INSERT OR REPLACE INTO notes VALUES (1, 5); END", 3, "explains"),
    (
        "AFTER DELETE ON gates BEGIN INSERT INTO gates VALUES (old.id + 90, 1); END",
        5,
        "FOREIGN KEY",
    ),
    ("BEFORE DELETE ON gates BEGIN SELECT RAISE(IGNORE); END", 3, "the trigger t on gates"),
    ("BEFORE DELETE ON weirs BEGIN SELECT RAISE(ROLLBACK, 'no'); END", 5, "no"),
    ("BEFORE DELETE ON weirs BEGIN SELECT RAISE(ABORT, 'not here'); END", 5, "not here"),
    ("AFTER DELETE ON weirs BEGIN INSERT INTO notes (weir) VALUES (old.id); END", 0, "by triggers"),
    ("AFTER UPDATE ON weirs BEGIN DELETE FROM notes; END", 0, "Committed"),
]


@pytest.mark.parametrize(("trigger", "status", "said"), TRIGGERS, ids=lambda value: str(value)[:50])
def test_a_trigger(yeldro: Yeldro, weirs: Path, trigger: str, status: int, said: str) -> None:
    connection = sqlite3.connect(weirs)
    connection.execute(f"CREATE TRIGGER t {trigger}")
    connection.close()
    before = digest(weirs)
    result = yeldro("delete", "weirs", "--where", "id < 3", "--yes", "--db", "weirs.db")
    assert (result.status, said in result.out + result.err) == (status, True), result
    assert (digest(weirs) == before) == (status != 0)


def test_what_is_checked_at_the_commit_is_looked_for_before(yeldro: Yeldro, tmp_path: Path) -> None:
    with closing(sqlite3.connect(tmp_path / "late.db")) as connection:
        connection.executescript(
            SCHEMA.replace("ON DELETE CASCADE", "ON DELETE CASCADE DEFERRABLE INITIALLY DEFERRED")
            + "CREATE TRIGGER t AFTER DELETE ON weirs BEGIN"
            " INSERT INTO gates VALUES (old.id + 90, old.id); END;"
        )
    done = yeldro("delete", "weirs", "--where", "id < 3", "--yes", "--db", "late.db")
    assert (done.status, "the likely cause is the trigger t" in done.err) == (3, True), done.err


def test_a_row_that_is_replaced_by_one_that_is_detached(yeldro: Yeldro, tmp_path: Path) -> None:
    with closing(sqlite3.connect(tmp_path / "replaced.db")) as connection:
        connection.executescript(
            "CREATE TABLE weirs (id INTEGER PRIMARY KEY);"
            "CREATE TABLE gates (id INTEGER PRIMARY KEY, weir_id INTEGER DEFAULT 3"
            " UNIQUE ON CONFLICT REPLACE REFERENCES weirs ON DELETE SET DEFAULT);"
            "INSERT INTO weirs VALUES (1), (3); INSERT INTO gates VALUES (1, 1), (2, 3);"
        )
    done = yeldro("delete", "weirs", "--key", "1", "--yes", "--db", "replaced.db")
    assert (done.status, "gates: 2 rows should be left, there is 1" in done.err) == (3, True), done


def test_a_deep_tree_of_cascades_goes_whole(yeldro: Yeldro, tmp_path: Path) -> None:
    """SQLite's own cascade gives up below a thousand levels."""
    connection = sqlite3.connect(tmp_path / "deep.db")
    connection.executescript(
        """CREATE TABLE reaches (id INTEGER PRIMARY KEY, into_id INTEGER REFERENCES reaches ON DELETE CASCADE);
        CREATE INDEX reaches_into ON reaches (into_id);
        WITH RECURSIVE n (i) AS (SELECT 0 UNION ALL SELECT i + 1 FROM n WHERE i < 20000)
        INSERT INTO reaches SELECT i, nullif(i - 1, -1) FROM n;"""
    )
    connection.close()
    result = yeldro(
        "delete", "reaches", "--key", "100", "--yes", "--db", "deep.db", "--sample", "0"
    )
    assert (result.status, "19,901" in result.out) == (0, True), result


def test_a_cycle_is_followed_round_after_round(yeldro: Yeldro, tmp_path: Path) -> None:
    connection = sqlite3.connect(tmp_path / "cycle.db")
    connection.executescript(
        """CREATE TABLE locks (id INTEGER PRIMARY KEY, basin INTEGER REFERENCES basins ON DELETE CASCADE);
        CREATE TABLE basins (id INTEGER PRIMARY KEY, lock INTEGER REFERENCES locks ON DELETE CASCADE);
        WITH RECURSIVE n (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 30)
        INSERT INTO locks SELECT i, i FROM n;
        INSERT INTO basins SELECT id, nullif(id - 1, 0) FROM locks;"""
    )
    connection.close()
    result = yeldro("delete basins --key 21 --yes --db cycle.db --dependents locks=delete")
    lines = [line.split() for line in result.out.split("Tally")[1].splitlines()[2:4]]
    assert [line[:4] for line in lines] == [
        ["locks", "30", "10", "10"],
        ["basins", "30", "10", "10"],
    ]


def test_a_transaction_that_ended_behind_our_back_is_noticed(weirs: Path) -> None:
    database = open_database(str(weirs), Mode.WRITE, 1)
    database.begin(Mode.WRITE)
    database.raw.execute("ROLLBACK")  # type: ignore[attr-defined]  # behind the gate
    with pytest.raises(DatabaseFailed, match="ended the transaction"):
        database.count_rows(database.schema.find_table("notes"))
    database.close()


MEETING = [
    ("id TEXT PRIMARY KEY NOT NULL", "INTEGER", "'01'", "1"),
    ("id TEXT PRIMARY KEY NOT NULL", "INTEGER", "'1'", "1"),
    ("id INTEGER PRIMARY KEY", "TEXT", "1", "'1'"),
    ("id TEXT PRIMARY KEY NOT NULL COLLATE NOCASE", "TEXT", "'Fen'", "'fEN'"),
    ("id TEXT PRIMARY KEY NOT NULL", "TEXT COLLATE NOCASE", "'Fen'", "'fen'"),
    ("id TEXT PRIMARY KEY NOT NULL", "TEXT COLLATE NOCASE", "'Fen'", "'Fen'"),
    ("id BLOB PRIMARY KEY NOT NULL", "TEXT", "x'41'", "'A'"),
    ("id NUMERIC PRIMARY KEY NOT NULL", "TEXT", "1.50", "'1.5'"),
    ("id TEXT COLLATE NOCASE, UNIQUE (id COLLATE NOCASE)", "TEXT", "'Fen'", "'FEN'"),
]


@pytest.mark.parametrize(("parent", "child", "value", "pointing"), MEETING, ids=str)
def test_a_reference_meets_the_rows_that_sqlite_says(
    yeldro: Yeldro, tmp_path: Path, parent: str, child: str, value: str, pointing: str
) -> None:
    """Affinity and collation of the referred column decide: SQLite's own cascade is the judge."""
    connection = sqlite3.connect(tmp_path / "meet.db")
    connection.executescript(
        f"""CREATE TABLE p ({parent}); CREATE TABLE c (n INTEGER PRIMARY KEY, p {child}
        REFERENCES p (id) ON DELETE CASCADE); INSERT INTO p VALUES ({value}), ('other'), (7);
        INSERT INTO c VALUES (1, {pointing}), (2, NULL);""".replace(
            "('other'), ", "" if "INTEGER" in parent else "('other'), "
        )
    )
    connection.executescript(f"PRAGMA foreign_keys = ON; BEGIN; DELETE FROM p WHERE id = {value};")
    kept = connection.execute("SELECT count(*) FROM c").fetchone()[0]
    connection.execute("ROLLBACK")
    connection.close()
    result = yeldro("delete", "p", "--where", f"id = {value}", "--yes", "--db", "meet.db")
    assert result.status == 0, result
    connection = sqlite3.connect(tmp_path / "meet.db")
    assert connection.execute("SELECT count(*) FROM c").fetchone()[0] == kept
    connection.close()


MEANWHILE = [
    ("INSERT INTO gates VALUES (9, 2)", "(1 row added, 0 gone)"),
    ("INSERT INTO weirs VALUES (4, 'b', NULL)", "1 row added"),
    ("DELETE FROM gates WHERE id = 1", "(0 rows added, 1 gone)"),
    ("UPDATE gates SET weir_id = 3 WHERE id = 1", "(0 rows added, 1 gone)"),
    ("UPDATE weirs SET name = 'z' WHERE id = 2", "gone)"),
    ("INSERT INTO notes VALUES (4, 4)", ""),
]


@pytest.mark.parametrize(("change", "reason"), MEANWHILE, ids=lambda value: str(value)[:40])
def test_what_others_did_since_the_preview(weirs: Path, change: str, reason: str) -> None:
    class Slow(Yes):
        def allow(self, previews: Sequence[Preview]) -> bool:
            other = sqlite3.connect(weirs)
            other.execute(change)
            other.commit()
            other.close()
            self.state = digest(weirs)
            return super().allow(previews)

    database = open_database(str(weirs), Mode.WRITE, 1)
    answers = Slow()
    result = running.delete(
        database, Request(Asked("weirs", where=("name IN ('a', 'b')",))), running.Manner(), answers
    )
    database.close()
    assert reason in result.reason
    assert (result.outcome, result.status) == (
        (running.Outcome.STOPPED, 3) if reason else (running.Outcome.COMMITTED, 0)
    )
    assert (digest(weirs) == answers.state) == bool(reason)


def test_a_preview_cannot_write_even_where_the_connection_could(weirs: Path) -> None:
    database = open_database(str(weirs), Mode.WRITE, 1)
    database.begin(Mode.READ)
    keys = database.make_key_set(database.schema.find_table("notes"))
    with pytest.raises(Exception, match="not authorized"):
        database.delete(keys)
    database.rollback()
    database.close()
