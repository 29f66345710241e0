"""What removing surplus rows does on every engine: who stays, what moves, what blocks it, what is
ignored."""

from __future__ import annotations

import shlex
import sqlite3
from collections.abc import Sequence
from contextlib import closing
from typing import Any

import psycopg
import pymysql
import pytest

from tests.conftest import Yeldro
from tests.property.test_laws import Yes
from tests.servers import Server, rows
from yeldro.core.duplicates.request import DuplicatesRequest, read_duplicates
from yeldro.core.model.key_set import StoredKeys
from yeldro.core.run.preview import Preview
from yeldro.core.selection.grouping import Ranking
from yeldro.core.selection.selection import Asked
from yeldro.engines.shared.ranking import SqlRanking
from yeldro.usecases import run as running

TABLES = [
    "CREATE TABLE weirs (id INTEGER PRIMARY KEY, name VARCHAR(40), code VARCHAR(20) UNIQUE, depth INTEGER,"
    " up_id INTEGER, FOREIGN KEY (up_id) REFERENCES weirs (id))",
    "CREATE TABLE gates (id INTEGER PRIMARY KEY, weir_id INTEGER NOT NULL, twin_id INTEGER, slot INTEGER,"
    " UNIQUE (weir_id, slot), FOREIGN KEY (weir_id) REFERENCES weirs (id) ON DELETE CASCADE,"
    " FOREIGN KEY (twin_id) REFERENCES weirs (id) ON DELETE SET NULL)",
    "CREATE TABLE notes (id INTEGER PRIMARY KEY, gate_id INTEGER, weir_code VARCHAR(20),"
    " FOREIGN KEY (gate_id) REFERENCES gates (id), FOREIGN KEY (weir_code) REFERENCES weirs (code))",
    "CREATE TABLE bends (part INTEGER, place INTEGER, name VARCHAR(9), PRIMARY KEY (part, place))",
    "CREATE TABLE raw_lines (name VARCHAR(40), depth INTEGER, far {double})",
]
ROWS = [
    "INSERT INTO weirs VALUES (1, 'fen', NULL, 4, NULL), (2, 'fen', 'F', NULL, NULL), (3, 'mere', 'M', 1, NULL)",
    "INSERT INTO gates VALUES (1, 1, NULL, 1), (2, 2, 2, 2), (3, 3, 2, 1)",
    "INSERT INTO raw_lines VALUES ('a', 1, 0.1), ('a', 1, 0.1), ('a', 1, 0.1), ('A ', 2, NULL), ('A ', 2, NULL),"
    " ('b', 1, 2)",
]
START = "as before"

# More statements, the command, its status, what it says, and what queries give then (START: nothing
# changed).
CASES: list[tuple[list[str], str, int, str, dict[str, Any] | str]] = [
    ([], "weirs --same name --keep fullest", 0, "Committed", {"SELECT id, code FROM weirs ORDER BY id": [(1, None), (3
     , "M")], "SELECT id, weir_id, twin_id FROM gates ORDER BY id": [(1, 1, None), (2, 1, 1), (3, 3, 1)]}),
    ([], "weirs --same name --keep fullest --expect 2", 3, "2 surplus rows of weirs were expected, there is 1", START
     ),
    ([], "weirs --same name --keep fullest --max-rows 2", 3, "more than --max-rows 2", START),
    ([], "weirs --same name --keep fullest --rehearse", 0, "Rehearsed", START),
    ([], "weirs --same name --keep fullest --where \"name = 'mere'\"", 0, "No two rows are the same", START),
    ([], "weirs --same name --keep 'where id IN (SELECT weir_id FROM gates WHERE slot = 2)'", 0, "Committed", {
     "SELECT id FROM weirs ORDER BY id": [(2, ), (3, )]}),
    ([], "weirs --same name --keep 'oldest depth' --fill", 0, "filled", {
     "SELECT id, name, code, depth FROM weirs ORDER BY id": [(1, "fen", "F", 4), (3, "mere", "M", 1)]}),
    (["CREATE TABLE ponds (id INTEGER PRIMARY KEY, name VARCHAR(9), a INTEGER, b INTEGER, UNIQUE (a, b))",
     "INSERT INTO ponds VALUES (1, 'fen', NULL, 1), (2, 'fen', 5, 2), (3, 'mere', 5, 1)"],
     "ponds --same name --keep 'lowest id' --fill", 3, "blocks this (filled in, a, b would not be unique any more)", START),
    ([], "weirs --same name --keep 'newest depth'", 0, "Committed", {"SELECT id FROM weirs ORDER BY id": [(1, ), (3, )]}),
    # What depends on a surplus row
    (["INSERT INTO gates VALUES (4, 2, NULL, 1)"], "weirs --same name --keep fullest", 3,
     "moved, they would have the same weir_id, slot as another row); --dependents gates=delete would allow", START),
    (["INSERT INTO gates VALUES (4, 2, NULL, 1)", "INSERT INTO notes VALUES (1, 4, NULL), (2, 1, NULL)"],
     "weirs --same name --keep fullest --dependents gates=delete", 0,
     "they are dropped, and what depends on them moves on", {"SELECT id, weir_id FROM gates ORDER BY id": [(1, 1), (2, 1
     ), (3, 3)], "SELECT id, gate_id FROM notes ORDER BY id": [(1, 1), (2, 1)]}),
    (["INSERT INTO weirs VALUES (4, 'fen', NULL, NULL, NULL)",
     "INSERT INTO gates VALUES (4, 2, NULL, 7), (5, 4, NULL, 7)"],
     "weirs --same name --keep fullest --dependents gates=delete", 0, "Committed", {
     "SELECT id, weir_id, slot FROM gates ORDER BY id": [(1, 1, 1), (2, 1, 2), (3, 3, 1), (4, 1, 7)]}),
    ([], "weirs --same name --keep fullest --dependents stop", 3, "--dependents stop", START),
    (["DELETE FROM gates WHERE weir_id = 2"], "weirs --same name --keep fullest --dependents gates=detach", 0,
     "detach", {"SELECT id, weir_id, twin_id FROM gates ORDER BY id": [(1, 1, None), (3, 3, None)]}),
    ([], "weirs --same name --keep fullest --dependents delete", 0, "Committed", {"SELECT id FROM gates ORDER BY id":
     [(1, )]}),
    (["UPDATE weirs SET up_id = 2 WHERE id = 1"], "weirs --same name --keep fullest --dependents delete", 3,
     "these are kept rows", START),
    # Self-references
    (["UPDATE weirs SET up_id = 2 WHERE id IN (1, 3)"], "weirs --same name --keep fullest", 0, "detached", {
     "SELECT id, up_id FROM weirs ORDER BY id": [(1, None), (3, 1)]}),
    (["UPDATE weirs SET up_id = 3 WHERE id = 1", "UPDATE weirs SET up_id = 2 WHERE id = 3"],
     "weirs --same name --keep fullest", 3, "moved, it would make a loop", START),
    # What depends on a column that is NULL in the kept row
    (["INSERT INTO notes VALUES (1, NULL, 'F')"], "weirs --same name --keep fullest", 3,
     "code is NULL in the kept row); --fill would allow it", START),
    (["INSERT INTO notes VALUES (1, NULL, 'F')"], "weirs --same name --keep fullest --fill", 0, "Committed", {
     "SELECT weir_code FROM notes": [("F", )], "SELECT id FROM weirs WHERE code = 'F'": [(1, )]}),
    # What is the same
    ([], "weirs --same up_id --keep fullest", 0, "No two rows are the same", START),
    (["UPDATE weirs SET depth = 5"],
     "weirs --same 'up_id, depth - 5' --nulls same --keep 'newest id' --dependents gates=delete", 0, "2 are surplus",
     {"SELECT id FROM weirs": [(3, )]}),
    (["UPDATE weirs SET name = 'ÉCLUSE  Straße ' WHERE id = 1",
     "UPDATE weirs SET name = ' écluse\tSTRASSE' WHERE id = 2"],
     "weirs --same name --ignore case,space --keep fullest", 0, "ignoring case and spaces", {
     "SELECT id FROM weirs ORDER BY id": [(1, ), (3, )]}),
    (["UPDATE weirs SET name = 'écluse' WHERE id = 1", "UPDATE weirs SET name = 'e\u0301cluse' WHERE id = 2",
     "UPDATE weirs SET name = 'Ecluse' WHERE id = 3"],
     "weirs --same name --ignore accents,case --keep 'lowest id' --dependents gates=delete", 0, "3 rows: 1 would stay"
     , {"SELECT id FROM weirs": [(1, )]}),
    (["UPDATE weirs SET name = 'a|b', code = 'c' WHERE id = 1",
     "UPDATE weirs SET name = 'a', code = 'b|c' WHERE id = 2"], "weirs --same name,code --keep fullest --ignore space"
     , 0, "No two rows are the same", START),
    # Without a key
    ([], "raw_lines --same all", 0, "3 are surplus", {
     "SELECT depth, count(*) FROM raw_lines GROUP BY depth ORDER BY depth": [(1, 2), (2, 1)]}),
    ([], "raw_lines --same depth --keep 'highest far'", 0, "4 are surplus", {
     "SELECT depth, far FROM raw_lines ORDER BY depth": [(1, 2.0), (2, None)]}),
    # By a key of two columns
    (["INSERT INTO bends VALUES (2, 1, 'x'), (1, 9, 'x'), (1, 2, 'x'), (3, 1, NULL), (4, 1, NULL)"],
     "bends --same name --keep fullest --nulls same", 0, "Committed", {"SELECT part, place FROM bends ORDER BY part":
     [(1, 2), (3, 1)]}),
    # The index that keeps them out
    ([], "weirs --same name --keep fullest --then-unique one_name", 0, "unique index one_name on (name) is added", {})
     ,
    ([], "weirs --same name --ignore accents --keep fullest --then-unique one_name", 3, "would not keep texts", START),
    ([], "weirs --same name --where 'id > 0' --keep fullest --then-unique one_name", 3, "goes without --where", START)
     ,
]  # fmt: skip


@pytest.fixture
def filled(server: Server) -> Server:
    double = {"postgresql": "DOUBLE PRECISION", "mariadb": "FLOAT"}.get(server.engine, "REAL")
    server.run([text.replace("{double}", double) for text in TABLES] + ROWS)
    return server


def state(server: Server) -> list[list[str]]:
    return [
        sorted(map(str, server.query(f"SELECT * FROM {name}")))
        for name in ("weirs", "gates", "notes", "raw_lines")
    ]


@pytest.mark.parametrize(
    ("more", "line", "status", "said", "then"), CASES, ids=[case[1] for case in CASES]
)
def test_a_run(
    filled: Server,
    yeldro: Yeldro,
    more: list[str],
    line: str,
    status: int,
    said: str,
    then: dict[str, Any] | str,
) -> None:
    filled.run(more)
    before = state(filled)
    place = ["--db", filled.place]
    words = [*shlex.split(line), *place]
    preview = yeldro("duplicates", *[word for word in words if word != "--rehearse"])
    assert (preview.status, state(filled)) == (status, before), preview.err
    result = yeldro("dedupe", *words, *(["--yes"] if "--rehearse" not in words else []))
    assert (result.status, said in result.out + result.err) == (status, True), (
        result.out + result.err
    )
    if then == START:
        assert state(filled) == before
        return
    assert isinstance(then, dict)
    for query, left in then.items():
        assert filled.query(query) == left
    again = yeldro(
        "dedupe", *[word for word in words if "then" not in word and word != "one_name"], "--yes"
    )
    assert (again.status, "No two rows are the same" in again.out) == (0, True), again.err
    if "--then-unique" in words:
        with pytest.raises(Exception, match=r"(?i)unique|duplicate"):
            filled.run(["INSERT INTO weirs VALUES (9, 'fen', NULL, NULL, NULL)"])
        return
    back = yeldro("restore", "last", "--yes", *place)
    assert (back.status, state(filled)) == (0, before), back.err


@pytest.mark.parametrize(("table", "taken"), [("weirs", "id = 1"), ("raw_lines", "name = 'b'")])
def test_nobody_takes_the_kept_row(
    filled: Server, monkeypatch: pytest.MonkeyPatch, table: str, taken: str
) -> None:
    """Else both rows of a group would be gone."""
    if filled.engine == "mariadb" and table == "raw_lines":
        filled.run(["ALTER TABLE raw_lines ADD COLUMN id INTEGER PRIMARY KEY AUTO_INCREMENT"])
    if table == "raw_lines":
        filled.run(["UPDATE raw_lines SET far = 9, depth = 1 WHERE name = 'b'"])
    waits = {"mariadb": "SET innodb_lock_wait_timeout = 1", "postgresql": "SET lock_timeout = 300"}
    seen = []

    def pair(part: SqlRanking, ranking: Ranking, into: StoredKeys) -> int:
        try:
            filled.run(
                [
                    waits.get(filled.engine, "PRAGMA busy_timeout = 0"),
                    f"DELETE FROM {table} WHERE {taken}",
                ]
            )
            seen.append("taken")
        except (sqlite3.Error, psycopg.Error, pymysql.Error):
            seen.append("held")
        return real(part, ranking, into)

    real = SqlRanking.pair
    monkeypatch.setattr(SqlRanking, "pair", pair)
    with closing(filled.open()) as database:
        same, keep = (["name"], ["fullest"]) if table == "weirs" else (["depth"], ["highest far"])
        grouping = read_duplicates(
            database.schema, database.dialect, Asked(table, all_rows=True), same, keep
        )
        result = running.dedupe(
            database, DuplicatesRequest(grouping), running.Manner(ask_first=False), Yes()
        )
    assert (result.outcome, seen) == (running.Outcome.COMMITTED, ["held"]), result.reason
    assert len(filled.query(f"SELECT 1 FROM {table} WHERE {taken}")) == 1


def test_what_was_shown_is_what_goes(filled: Server) -> None:
    class Slow(Yes):
        def allow(self, previews: Sequence[Preview]) -> bool:
            filled.run(["UPDATE weirs SET depth = 9, up_id = 3 WHERE id = 2"])
            return True

    with closing(filled.open()) as database:
        grouping = read_duplicates(
            database.schema, database.dialect, Asked("weirs", all_rows=True), ["name"], ["fullest"]
        )
        result = running.dedupe(database, DuplicatesRequest(grouping), running.Manner(), Slow())
    assert (result.outcome, result.reason[:16]) == (running.Outcome.STOPPED, "The data changed")
    assert filled.query("SELECT count(*) FROM weirs") == [(3,)]


def test_what_was_changed_since_is_left_alone(filled: Server, yeldro: Yeldro) -> None:
    place = ["--db", filled.place, "--yes"]
    assert (
        yeldro(
            "dedupe", "weirs", "--same", "name", "--keep", "oldest depth", "--fill", *place
        ).status
        == 0
    )
    filled.run(
        [
            "UPDATE gates SET weir_id = 3, slot = 8 WHERE id = 2",
            "UPDATE weirs SET code = 'other' WHERE id = 1",
        ]
    )
    back = yeldro("restore", "last", *place)
    assert (back.status, "1 row of gates is not as the run left it" in back.out) == (0, True), (
        back.err
    )
    assert filled.query("SELECT id, weir_id FROM gates ORDER BY id") == [(1, 1), (2, 3), (3, 3)]
    assert filled.query("SELECT id, code FROM weirs ORDER BY id") == [
        (1, "other"),
        (2, "F"),
        (3, "M"),
    ]


def test_a_collation_that_merges_spellings_is_told(server: Server, yeldro: Yeldro) -> None:
    kinds = {
        "sqlite": "TEXT COLLATE NOCASE",
        "mariadb": "VARCHAR(20)",
        "postgresql": 'VARCHAR(20) COLLATE "blind"',
    }
    if server.engine == "postgresql":
        server.run(
            "CREATE COLLATION blind (provider = icu, locale = 'und-u-ks-level2', deterministic = false)"
        )
    server.run(
        f"CREATE TABLE weirs (id INTEGER PRIMARY KEY, name {kinds[server.engine]})",
        "INSERT INTO weirs VALUES (1, 'fen'), (2, 'FEN'), (3, 'mere'), (4, 'mere'), (5, 'beck')",
    )
    line = ["duplicates weirs --same name --keep fullest --db", server.place, "--format", "json"]
    found = yeldro(*line).document
    assert (found["groups"], found["surplus"]) == (2, 2)
    (caution,) = (one for one in found["cautions"] if one["name"] == "case-blind")
    assert caution["message"].startswith(
        "In 1 group the collation of name makes several spellings one"
    )
    assert yeldro(*line, "--strict", "case-blind").status == 3


@pytest.mark.parametrize("any_server", ["postgresql"], indirect=True)
def test_a_collation_does_not_say_what_is_blank(server: Server, yeldro: Yeldro) -> None:
    server.run(
        "CREATE COLLATION bare (provider = icu, locale = 'und-u-ka-shifted', deterministic = false)",
        'CREATE TABLE weirs (id INTEGER PRIMARY KEY, name VARCHAR(20) COLLATE "bare")',
        "INSERT INTO weirs VALUES (1, ' '), (2, '-'), (3, '-'), (4, ' ')",
    )
    line = ["dedupe", "weirs", "--same", "name", "--keep", "lowest id", "--yes"]
    done = yeldro(*line, "--then-unique", "one_name")
    assert (done.status, rows(server, "weirs")) == (0, [[(1, " "), (2, "-"), (4, " ")]]), done.err
    with pytest.raises(Exception, match="one_name"):
        server.run("INSERT INTO weirs VALUES (5, '-')")


SPECIAL = [
    (["--same", "name", "--ignore", "case,space"], "' FEN '", "'tern'"),
    (["--same", "name", "--nulls", "same"], "NULL", "'NULL'"),
    (["--same", "depth", "--nulls", "same"], "'x', NULL", "'x', 0"),
    (["--same", "name"], "'fen'", "'  '"),
]


@pytest.mark.parametrize(("options", "out", "into"), SPECIAL)
def test_an_index_keeps_out_what_was_the_same(
    yeldro: Yeldro, server: Server, options: list[str], out: str, into: str
) -> None:
    """NULLs, case and spaces, and blank texts that are to stay: with an index on expressions, or on
    some of the rows."""
    server.run(
        "CREATE TABLE pools (id INTEGER PRIMARY KEY, name VARCHAR(20), depth INTEGER)",
        "INSERT INTO pools VALUES (1, 'fen', 1), (2, 'fen', 2), (3, NULL, NULL), (4, NULL, NULL),"
        " (5, '', 5), (6, ' ', 6), (7, 'Mere', 7), (8, 'mere ', 8)",
    )
    before = rows(server, "pools")
    line = ["dedupe pools", *options, "--keep", "lowest id", "--then-unique", "one_pool", "--yes"]
    done = yeldro(*line)
    if server.engine == "mariadb":
        assert (done.status, rows(server, "pools")) == (3, before), done.err
        return
    assert (done.status, "Then this index is added" in done.out) == (0, True), done.out + done.err
    columns = "id, name, depth" if "," in out else "id, name"
    with pytest.raises(Exception, match=r"(?i)unique|duplicate"):
        server.run(f"INSERT INTO pools ({columns}) VALUES (90, {out})")
    server.run(
        f"INSERT INTO pools ({columns}) VALUES (91, {into})", "DELETE FROM pools WHERE id = 91"
    )
    assert yeldro("restore", "last", "--yes").status == 0
    assert rows(server, "pools") == before


def test_what_collides_is_told_by_its_key(yeldro: Yeldro, server: Server) -> None:
    """Never by a row number, by which SQLite knows rows whose key may be NULL."""
    server.run(
        "CREATE TABLE pools (id INTEGER PRIMARY KEY, name VARCHAR(20))",
        "CREATE TABLE seals (code VARCHAR(9) PRIMARY KEY, pool INTEGER UNIQUE,"
        " FOREIGN KEY (pool) REFERENCES pools (id))",
        "INSERT INTO pools VALUES (1, 'fen'), (2, 'fen')",
        "INSERT INTO seals VALUES ('S-1', 1), ('S-2', 2)",
    )
    line = ["duplicates", "pools", "--same", "name", "--keep", "lowest id"]
    shown = yeldro(*line)
    assert (shown.status, "code S-2  code S-1" in shown.out) == (3, True), shown.out
    (collision,) = yeldro(*line, "--format", "json").document["collisions"]
    assert collision["pairs"] == [{"row": ["S-2"], "collides_with": ["S-1"]}]
