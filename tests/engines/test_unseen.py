"""Rows that were lost, or could not come back, where the tally balanced all the same."""

from __future__ import annotations

import json
from collections.abc import Sequence
from typing import Any

import pytest

from tests.conftest import Result, Yeldro
from tests.servers import Server


def on(*engines: str) -> Any:
    """Only on these engines: what is tried is a thing of theirs."""
    return pytest.mark.parametrize("any_server", engines, indirect=True)


def rows(server: Server, *tables: str) -> list[list[tuple[Any, ...]]]:
    return [sorted(server.query(f"SELECT * FROM {name}"), key=repr) for name in tables]


def there_and_back(yeldro: Yeldro, server: Server, tables: Sequence[str], *line: str) -> Result:
    """Run a command, restore it, and expect every row to be as it was; restored again it does nothing."""
    before = rows(server, *tables)
    done = yeldro(*line, "--db", server.place, "--yes")
    assert done.status == 0, done.err
    assert rows(server, *tables) != before
    for word in ("Committed", "nothing to restore"):
        back = yeldro("restore", "last", "--yes", "--db", server.place)
        assert (back.status, word in back.out) == (0, True), back.out + back.err
        assert rows(server, *tables) == before
    return done


PARTITIONED = [
    "CREATE TABLE p (id INTEGER PRIMARY KEY, UNIQUE (id)) PARTITION BY RANGE (id)",
    "CREATE TABLE p1 PARTITION OF p FOR VALUES FROM (0) TO (10)",
    "CREATE TABLE p2 PARTITION OF p FOR VALUES FROM (10) TO (20)",
    "CREATE TABLE c (id INTEGER PRIMARY KEY, p INTEGER REFERENCES p ON DELETE CASCADE)",
    "INSERT INTO p VALUES (1), (2), (11), (12)",
    "INSERT INTO c VALUES (1, 1), (2, 11), (3, 12), (4, NULL)",
]


@on("postgresql")
def test_a_reference_to_a_partitioned_table_is_one_reference(yeldro: Yeldro, server: Server) -> None:
    server.run(PARTITIONED)
    looked = yeldro("delete", "c", "--orphans", "--yes", "--db", server.place)
    assert (looked.status, "No row matches" in looked.out) == (0, True)
    there_and_back(yeldro, server, ("p", "c"), "delete", "p", "--where", "id IN (1, 11)")
    there_and_back(yeldro, server, ("p", "c"), "delete", "c", "--where", "id < 4")
    there_and_back(yeldro, server, ("p", "c"), "delete", "p2", "--where", "id = 12")
    survey = json.loads(yeldro("survey", "--db", server.place, "--format", "json").out)
    assert [one["referenced_by"] for one in survey["tables"] if one["name"] == "p"] == [[{"reference": "c.p -> p.id", "on_delete": "CASCADE", "indexed": False, "broken": None}]]
    mapped = json.loads(yeldro("map", "--db", server.place, "--format", "json").out)
    assert len(mapped["references"]) == 1


@on("postgresql")
def test_a_reference_to_one_partition_is_followed_from_the_whole_table(yeldro: Yeldro, server: Server) -> None:
    server.run([*PARTITIONED, "CREATE TABLE k (id INTEGER PRIMARY KEY, p INTEGER REFERENCES p1 ON DELETE CASCADE)"])
    server.run(["INSERT INTO k VALUES (1, 1), (2, 2)"])
    there_and_back(yeldro, server, ("p", "c", "k"), "delete", "p", "--where", "id IN (1, 12)")
    server.run(
        [
            "CREATE TABLE s (id INTEGER, era INTEGER, PRIMARY KEY (id, era)) PARTITION BY RANGE (era)",
            "CREATE TABLE s1 PARTITION OF s FOR VALUES FROM (0) TO (10)",
            "CREATE TABLE s2 PARTITION OF s FOR VALUES FROM (10) TO (20)",
            "ALTER TABLE s1 ADD UNIQUE (id)",
            "CREATE TABLE t (id INTEGER PRIMARY KEY, s INTEGER REFERENCES s1 (id) ON DELETE CASCADE)",
            "INSERT INTO s VALUES (5, 1), (5, 11), (6, 11)",
            "INSERT INTO t VALUES (1, 5)",
        ]
    )
    stopped = yeldro("delete", "s", "--where", "era = 11 AND id = 5", "--yes", "--db", server.place)
    assert (stopped.status, "unique in that one alone" in stopped.err) == (3, True)
    assert yeldro("delete", "s", "--where", "id = 6", "--yes", "--db", server.place).status == 0
    assert rows(server, "s", "t") == [[(5, 1), (5, 11)], [(1, 5)]]


@on("postgresql")
def test_duplicates_of_a_partitioned_table(yeldro: Yeldro, server: Server) -> None:
    server.run([*PARTITIONED, "ALTER TABLE p ADD name TEXT", "UPDATE p SET name = id % 2"])
    there_and_back(yeldro, server, ("p", "c"), "dedupe", "p", "--same", "name", "--keep", "lowest id")
    assert rows(server, "c") == [[(1, 1), (2, 11), (3, 12), (4, None)]]


@on("postgresql")
def test_a_reference_compares_by_its_own_operator_and_collation(yeldro: Yeldro, server: Server) -> None:
    server.run(
        [
            "DROP SCHEMA IF EXISTS far CASCADE",
            "CREATE SCHEMA far",
            "CREATE EXTENSION citext SCHEMA far",
            "CREATE TABLE p (code far.citext PRIMARY KEY, name TEXT COLLATE \"C\" UNIQUE)",
            "CREATE TABLE c (id INTEGER PRIMARY KEY, p far.citext REFERENCES p ON DELETE CASCADE,"
            ' n TEXT COLLATE "POSIX" REFERENCES p (name), d TEXT REFERENCES p (name))',
            "INSERT INTO p VALUES ('Fen', 'a'), ('Mere', 'b'), ('Beck', 'c')",
            "INSERT INTO c VALUES (1, 'fen', 'a', 'a'), (2, 'MERE', NULL, NULL), (3, 'Beck', 'c', 'c')",
        ]
    )
    assert "No row matches" in yeldro("delete", "c", "--orphans", "--yes", "--db", server.place).out
    there_and_back(yeldro, server, ("p", "c"), "delete", "p", "--where", "name = 'a'", "--dependents", "delete")
    there_and_back(yeldro, server, ("p", "c"), "delete", "p", "--where", "name = 'b'")
    server.run(["DROP SCHEMA far CASCADE"])


@on("postgresql")
@pytest.mark.parametrize("part", [False, True])
def test_what_a_publication_or_a_foreign_partition_would_refuse_is_a_stop(
    yeldro: Yeldro, server: Server, part: bool
) -> None:
    """The publisher needs wal_level = logical only to publish: without it the deletion fails all the same."""
    server.run(
        [
            "CREATE TABLE w (id INTEGER NOT NULL) PARTITION BY RANGE (id)",
            "CREATE TABLE w1 PARTITION OF w FOR VALUES FROM (0) TO (10)",
            "INSERT INTO w VALUES (1), (2)",
        ]
    )
    if part:
        server.run(
            [
                "CREATE EXTENSION postgres_fdw",
                "CREATE SERVER far FOREIGN DATA WRAPPER postgres_fdw",
                "CREATE FOREIGN TABLE w2 PARTITION OF w FOR VALUES FROM (10) TO (20) SERVER far",
            ]
        )
    else:
        server.run(["CREATE PUBLICATION ours FOR TABLE w1"])
    stopped = yeldro("delete", "w", "--where", "id = 1", "--yes", "--db", server.place)
    said = "is a foreign table" if part else "the publication ours publishes its partition w1"
    assert (stopped.status, said in stopped.err) == (3, True), stopped.err
    server.run(["DROP EXTENSION postgres_fdw CASCADE" if part else "DROP PUBLICATION ours"])
