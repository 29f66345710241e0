"""What clearing does on every engine: what is removed, what follows, what blocks it, and that it can
be taken back."""

from __future__ import annotations

import shlex
from collections.abc import Sequence
from contextlib import closing
from typing import Any

import pytest

from tests.conftest import Yeldro
from tests.property.test_laws import Yes
from tests.servers import Server, label, rows
from yeldro.core.clearing.request import ClearRequest, is_constant
from yeldro.core.run.preview import Preview
from yeldro.core.selection.selection import Asked
from yeldro.usecases import run as running

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
    # What a value points at that is blank already is not lost.
    (["INSERT INTO towers (id, code, name, height, up_id) VALUES (5, '', 'rill', 3, 1)",
      "INSERT INTO pins VALUES (1, '')"],
     "towers --key 5 --columns code,name --to blank", 0, "Committed",
     {"SELECT name FROM towers WHERE id = 5": [""], "SELECT code FROM pins": [""]}),
    ([], "towers --where 'id < 4' --columns note", 0, "2 rows", {NOTES: [None, None, None, ""]}),
    ([], "towers --all-rows --columns note --to blank", 0, "1 of the 4", {NOTES: ["", "", "", ""]}),
    ([], "towers --all-rows --columns NOTE,kind --where 'height > 3'", 0, "Committed",
     {"SELECT kind FROM towers ORDER BY id": [None, None, None, "oak"]}),
    ([], "towers --where 'id > 1' --columns height,name --to default", 0, "3 rows",
     {"SELECT height FROM towers ORDER BY id": [4, 7, 7, 7], "SELECT name FROM towers ORDER BY id": ["fen", "unnamed", "unnamed", "unnamed"], "SELECT twice FROM towers ORDER BY id": [8, 14, 14, 14]}),
    ([], "towers --where 'id = 2' --columns note", 0, "clear already", AS_BEFORE),
    ([], "towers --where 'id < 3' --columns note --rehearse", 0, "Rehearsed", AS_BEFORE),
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
    ([], "towers --where 'id < 4' --columns note --leave-out note", 3, "the copy needs it", AS_BEFORE),
    ([], "towers --where 'id < 3' --columns code --to blank --dependents detach", 3, "code would not be unique",
     AS_BEFORE),
    ([], "towers --where 'id = 4' --columns code --to blank", 0, "Committed", {CODES: ["A", "B", "C", ""]}),
    ([], "towers --where 'id <> 2' --columns kind", 3, "1 row of towers blocks this (cleared, CHECK", AS_BEFORE),
    ([], "towers --where 'id = 2' --columns up_id", 0, "Committed",
     {"SELECT up_id FROM towers ORDER BY id": [None, None, 1, None]}),
    ([], "towers --where 'id < 3' --columns up_id --to default", 3, "2 rows of towers block this through towers.up_id",
     AS_BEFORE),
    (["INSERT INTO towers (id, name, height, up_id) VALUES (99, 'hill', 1, NULL)"],
     "towers --where 'id < 3' --columns up_id --to default", 0, "Committed",
     {"SELECT up_id FROM towers ORDER BY id": [99, 99, 1, None, None]}),
    ([], "towers --where 'id < 3' --columns code", 0, "Committed",
     {CODES: [None, None, "C", None], "SELECT code FROM lamps ORDER BY id": [None, None, None], "SELECT code FROM flags ORDER BY id": [None, "C"]}),
    ([], "towers --where 'id = 1' --columns code --to blank", 3, "would give it the new value too", AS_BEFORE),
    ([], "towers --where 'id = 1' --columns code --to blank --dependents lamps=detach", 0, "Committed",
     {CODES: ["", "B", "C", None], "SELECT code FROM lamps ORDER BY id": [None, None, "B"]}),
    ([], "towers --where 'id < 3' --columns code --dependents lamps=stop", 3, "(--dependents stop)", AS_BEFORE),
    ([], "towers --where 'id < 3' --columns code --dependents lamps=delete", 2, "declared, detach, stop", AS_BEFORE),
    (["INSERT INTO ropes VALUES (1, 'B')"], "towers --where 'id < 3' --columns code", 3, "this through ropes.code",
     AS_BEFORE),
    (["INSERT INTO pins VALUES (1, 'B')"], "towers --where 'id < 3' --columns code", 3,
     "--dependents pins=detach would allow", AS_BEFORE),
    (["INSERT INTO pins VALUES (1, 'B')"], "towers --where 'id < 3' --columns code --dependents pins=detach", 0,
     "Committed", {"SELECT code FROM pins": [None]}),
    (["INSERT INTO cords VALUES (1, 'B')"], "towers --where 'id < 3' --columns code", 3, "would be detached",
     AS_BEFORE),
    (["UPDATE towers SET peer = 'A' WHERE id IN (1, 2)"], "towers --where 'id < 3' --columns code", 3,
     "towers=detach would allow", AS_BEFORE),
    (["UPDATE towers SET peer = 'A' WHERE id IN (1, 2)"], "towers --where 'id < 3' --columns code --dependents detach",
     0, "Committed", {CODES: [None, None, "C", None], "SELECT peer FROM towers ORDER BY id": [None, None, None, None]}),
    (["UPDATE towers SET peer = 'A' WHERE id IN (1, 2)"],
     "towers --where 'id < 3' --columns code,peer --dependents detach", 3, "clear peer first, by itself", AS_BEFORE),
]  # fmt: skip


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


# By engine: statements, the command, its status, what it says. Whatever is done is taken back.
SPECIAL: list[tuple[str, list[str], str, int, str]] = [
    ("sqlite postgresql", ["CREATE UNIQUE INDEX one ON t (k) WHERE note IS NULL"], "--where 'id < 3' --columns note", 3,
     "k would not be unique"),
    ("sqlite postgresql", ["CREATE UNIQUE INDEX one ON t (note) WHERE note IS NOT NULL"], "--where 'id < 3' --columns note", 0, "2"),
    ("sqlite postgresql", ["CREATE UNIQUE INDEX one ON t (coalesce(note, 'none'))"], "--where 'id < 3' --columns note", 3,
     "would not be unique"),
    ("postgresql", ["CREATE UNIQUE INDEX one ON t (note) NULLS NOT DISTINCT"], "--where 'id < 3' --columns note", 3,
     "note would not be unique"),
    ("postgresql", ["CREATE DOMAIN label AS varchar(9) CHECK (VALUE <> '')", "ALTER TABLE t ALTER note TYPE label"],
     "--where 'id < 3' --columns note --to blank", 2, "does not take it"),
    ("postgresql", ["CREATE DOMAIN label AS varchar(9) NOT NULL", "ALTER TABLE t ALTER note TYPE label"],
     "--where 'id < 3' --columns note", 2, "does not take it"),
    ("postgresql", ["CREATE TABLE p (a INTEGER, b INTEGER, UNIQUE (a, b))", "INSERT INTO p VALUES (1, 1)",
     "ALTER TABLE t ADD a INTEGER, ADD b INTEGER, ADD FOREIGN KEY (a, b) REFERENCES p (a, b) MATCH FULL",
     "UPDATE t SET a = 1, b = 1"], "--where 'id < 3' --columns a", 3, "2 rows of t block this through t.(a, b)"),
    ("postgresql", ["CREATE TABLE p (a INTEGER, b INTEGER, UNIQUE (a, b))", "INSERT INTO p VALUES (1, 1)",
     "ALTER TABLE t ADD a INTEGER, ADD b INTEGER, ADD FOREIGN KEY (a, b) REFERENCES p (a, b) MATCH FULL",
     "UPDATE t SET a = 1, b = 1"], "--where 'id < 3' --columns a,b", 0, "2"),
    ("postgresql", ["CREATE TABLE p (id INTEGER PRIMARY KEY, a INTEGER, b INTEGER, UNIQUE (a, b))",
     "CREATE TABLE c (id INTEGER PRIMARY KEY, a INTEGER, b INTEGER,"
     " FOREIGN KEY (a, b) REFERENCES p (a, b) MATCH FULL ON UPDATE CASCADE)",
     "INSERT INTO p VALUES (1, 1, 1)", "INSERT INTO c VALUES (1, 1, 1)"], "p --key 1 --columns a", 3, "MATCH FULL"),
    ("postgresql", ["CREATE TABLE parted (id INTEGER, k INTEGER, note VARCHAR(9)) PARTITION BY LIST (k)",
     "CREATE TABLE parted_1 PARTITION OF parted FOR VALUES IN (1)", "CREATE TABLE parted_2 PARTITION OF parted DEFAULT",
     "INSERT INTO parted VALUES (1, 1, 'a'), (2, 1, 'b'), (3, 2, 'c')"], "parted --where 'id < 3' --columns k", 0, "2"),
    ("sqlite postgresql", ["CREATE TABLE bare (a VARCHAR(9), b INTEGER)", "INSERT INTO bare VALUES ('x', 1), ('x', 1), ('y', 2)"],
     "bare --where 'b = 1' --columns a", 0, "2"),
    ("sqlite postgresql", ["CREATE TABLE w (n VARCHAR(9) UNIQUE, p VARCHAR(9) REFERENCES w (n) ON UPDATE SET NULL)",
     "INSERT INTO w VALUES ('a', NULL), ('b', 'a')"], "w --all-rows --columns n", 3, "nobody could tell"),
    ("mariadb", ["CREATE TABLE w (id INTEGER PRIMARY KEY, j BIT(5) DEFAULT b'101')", "INSERT INTO w VALUES (1, b'1'), (2, b'101')"],
     "w --all-rows --columns j --to default", 0, "1 of the 2"),
    ("sqlite", ["CREATE TABLE w (id INTEGER PRIMARY KEY, j INTEGER DEFAULT '1')", "INSERT INTO w VALUES (1, 7), (2, 1)"],
     "w --all-rows --columns j --to default", 0, "1 of the 2"),
    ("sqlite postgresql mariadb", ["CREATE VIEW v AS SELECT id, note AS k, k AS twice FROM t"], "v --where \"k = 'a'\" --columns note",
     0, "Committed"),
    ("mariadb", ["CREATE TABLE bare (a VARCHAR(9), b INTEGER)", "INSERT INTO bare VALUES ('x', 1), ('x', 1), ('y', 2)"],
     "bare --where 'b = 1' --columns a", 2, "nothing tells them apart"),
    ("mariadb", ["ALTER TABLE t ADD seen TIMESTAMP NULL DEFAULT CURRENT_TIMESTAMP ON UPDATE CURRENT_TIMESTAMP",
     "UPDATE t SET seen = '2020-01-01 10:00:00'"], "--where 'id < 3' --columns note", 0, "2"),
    ("mariadb", ["ALTER TABLE t MODIFY note ENUM('a', 'b', 'c')"], "--where 'id < 3' --columns note --to blank", 2, "has no blank"),
    ("sqlite", ["CREATE TRIGGER back AFTER UPDATE ON t BEGIN UPDATE t SET note = 'a' WHERE id = 1; END"],
     "--where 'id < 3' --columns note", 3, "2 rows were to be cleared, 1 is"),
    ("postgresql", ["CREATE FUNCTION f() RETURNS trigger LANGUAGE plpgsql AS 'BEGIN NEW.note := ''a''; RETURN NEW; END'",
     "CREATE TRIGGER back BEFORE UPDATE ON t FOR EACH ROW EXECUTE FUNCTION f()"], "--where 'id < 3' --columns note", 3,
     "2 rows were to be cleared, 0 are"),
    ("mariadb", ["CREATE TRIGGER back BEFORE UPDATE ON t FOR EACH ROW SET NEW.note = 'a'"], "--where 'id < 3' --columns note", 3,
     "2 rows were to be cleared, 0 are"),
    ("mariadb", ["CREATE TABLE w (x INTEGER)", "CREATE TRIGGER more AFTER UPDATE ON t FOR EACH ROW INSERT INTO w VALUES (1)"],
     "--where 'id < 3' --columns note", 0, "by triggers"),
]  # fmt: skip


@pytest.mark.parametrize(
    ("engines", "more", "line", "status", "says"),
    SPECIAL,
    ids=[f"{n}" for n in range(len(SPECIAL))],
)
def test_what_the_engines_have_of_their_own(
    yeldro: Yeldro,
    server: Server,
    engines: str,
    more: list[str],
    line: str,
    status: int,
    says: str,
) -> None:
    if server.engine not in engines.split():
        return
    server.run(
        "CREATE TABLE t (id INTEGER PRIMARY KEY, k INTEGER, note VARCHAR(9))",
        "INSERT INTO t VALUES (1, 1, 'a'), (2, 1, 'b'), (3, 2, 'c')",
        more,
    )
    words = shlex.split(line)
    table = words.pop(0) if not words[0].startswith("-") else "t"
    before = rows(server, table)
    done = yeldro("clear", table, *words, "--yes")
    assert (done.status, says in done.out + done.err) == (status, True), done.out + done.err
    if status:
        assert rows(server, table) == before
        return
    assert rows(server, table) != before
    if table in ("t", "p"):
        part = yeldro("restore", "last", "--key", "1", "--yes")
        assert (part.status, "1 row" in part.out or " 1 " in part.out) == (0, True), part.err
    back = yeldro("restore", "last", "--yes")
    assert (back.status, rows(server, table)) == (0, before), back.out + back.err


@pytest.mark.parametrize("rule", ["stop", "delete", "detach"])
def test_what_the_schema_does_not_declare_is_followed_too(
    yeldro: Yeldro, server: Server, tmp_path: Any, rule: str
) -> None:
    server.run(
        "CREATE TABLE t (id INTEGER PRIMARY KEY, note VARCHAR(9) UNIQUE)",
        "CREATE TABLE u (id INTEGER PRIMARY KEY, t_note VARCHAR(9))",
        "INSERT INTO t VALUES (1, 'a'), (2, 'b')",
        "INSERT INTO u VALUES (1, 'a')",
    )
    (tmp_path / "yeldro.toml").write_text(
        f'[[references]]\nfrom = "u.t_note"\nto = "t.note"\nrule = "{rule}"\n'
    )
    before = rows(server, "t", "u")
    line = ["clear", "t", "--key", "1", "--columns", "note", "--yes"]
    if rule != "detach":
        done = yeldro(*line)
        assert (done.status, "--dependents u=detach would allow" in done.err) == (3, True), done.err
        line += ["--dependents", "u=detach"]
    assert yeldro(*line).status == 0
    assert rows(server, "t", "u") == [[(1, None), (2, "b")], [(1, None)]]
    assert yeldro("restore", "last", "--yes").status == 0
    assert rows(server, "t", "u") == before


def test_what_was_shown_is_what_is_cleared(server: Server) -> None:
    class Slow(Yes):
        def allow(self, previews: Sequence[Preview]) -> bool:
            server.run("UPDATE towers SET note = 'new' WHERE id = 2")
            return True

    make(server)
    request = ClearRequest(Asked("towers", where=("id < 3",)), columns=("note",))
    with closing(server.open()) as database:
        result = running.clear(database, request, running.Manner(), Slow())
    assert (result.outcome, result.reason[:16]) == (running.Outcome.STOPPED, "The data changed")
    assert [row[0] for row in server.query(NOTES)][:2] == ["old", "new"]


def test_what_was_set_since_is_left_alone(yeldro: Yeldro, server: Server) -> None:
    make(server)
    assert yeldro("clear", "towers", "--where", "id < 4", "--columns", "note", "--yes").status == 0
    server.run("UPDATE towers SET note = 'other' WHERE id = 1")
    back = yeldro("restore", "last", "--yes")
    assert (back.status, "is not as the run left it" in back.out) == (0, True), back.out + back.err
    assert [row[0] for row in server.query(NOTES)] == ["other", None, "  ", ""]


def test_a_step_and_a_seal(yeldro: Yeldro, server: Server, tmp_path: Any) -> None:
    make(server)
    before = rows(server, *ALL)
    line = ["--where", "id < 3", "--clear", "code", "--save", "c.toml", "--seal"]
    assert yeldro("preview", "towers", *line).status == 0
    text = (tmp_path / "c.toml").read_text()
    assert (
        'clear = "towers"' in text,
        'columns = "code"' in text or 'columns = ["code"]' in text,
    ) == (True, True), text
    told = yeldro("run", "c.toml", "--explain").out
    assert (
        "It keeps the rows of towers for which (id < 3), and removes what they hold in code" in told
    )
    server.run("INSERT INTO lamps VALUES (9, 'A', 1)")
    refused = yeldro("run", "c.toml", "--yes")
    assert (refused.status, "1 row came into its reach" in refused.err) == (3, True), refused.err
    server.run("DELETE FROM lamps WHERE id = 9")
    done = yeldro("run", "c.toml", "--yes")
    assert (done.status, "cleared" in done.out) == (0, True), done.err
    assert [row[0] for row in server.query(CODES)] == [None, None, "C", None]
    again = yeldro("restore", "last", "--yes")
    assert (again.status, rows(server, *ALL)) == (0, before), again.err


CONSTANTS = [
    ("sqlite", "'x'", True), ("sqlite", "-1", True), ("sqlite", "CURRENT_TIMESTAMP", False), ("sqlite", "(random())", False),
    ("postgres", "'x'::character varying", True), ("postgres", "nextval('s'::regclass)", False), ("postgres", "now()", False),
    ("postgres", "'{}'::text[]", True), ("postgres", "(1.5)::numeric(8,2)", True), ("postgres", "CURRENT_DATE", False),
    ("mysql", "NULL", True), ("mysql", "'a'", True), ("mysql", "current_timestamp()", False), ("mysql", "uuid()", False),
    ("mysql", "curdate()", False), ("postgres", None, True), ("mysql", "(((", False),
]  # fmt: skip


@pytest.mark.parametrize(("dialect", "default", "constant"), CONSTANTS)
def test_a_default_that_is_one_value(dialect: str, default: str | None, constant: bool) -> None:
    assert is_constant(default, dialect) is constant
