"""Rows that were lost, or could not come back, where the tally balanced all the same."""

from __future__ import annotations

import json
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from typing import Any

import pytest

from tests.conftest import Result, Yeldro
from tests.servers import Server


def on(*engines: str) -> pytest.MarkDecorator:
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
    assert [one["referenced_by"] for one in survey["tables"] if one["name"] == "p"] == [
        [{"reference": "c.p -> p.id", "on_delete": "CASCADE", "indexed": False, "broken": None}]
    ]
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
            'CREATE TABLE p (code far.citext PRIMARY KEY, name TEXT COLLATE "C" UNIQUE)',
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


@contextmanager
def account(server: Server, *grants: str) -> Iterator[str]:
    """A new account of MariaDB with these rights, as an address; `{0}` stands for the database of the test."""
    name = f"yt_{server.place[-8:]}"
    place = server.place.rpartition("/")[2]
    server.run([f"CREATE USER {name}@'%'", f"GRANT CREATE TEMPORARY TABLES ON {place}.* TO {name}@'%'"])
    try:
        server.run([f"GRANT {grant.format(place)} TO {name}@'%'" for grant in grants])
        yield server.place.replace("root@", f"{name}@")
    finally:
        server.run([f"DROP USER {name}@'%'"])


ALL = "SELECT, INSERT, UPDATE, DELETE ON {0}."
FAMILY = [
    "CREATE TABLE p (id INTEGER PRIMARY KEY, name VARCHAR(9))",
    "CREATE TABLE c (id INTEGER PRIMARY KEY, p INTEGER, FOREIGN KEY (p) REFERENCES p (id) ON DELETE CASCADE)",
    "INSERT INTO p VALUES (1, 'a'), (2, 'a'), (3, 'b')",
    "INSERT INTO c VALUES (1, 1), (2, 2), (3, 3)",
]
LOG = "CREATE TRIGGER t AFTER DELETE ON {} FOR EACH ROW INSERT INTO log VALUES (OLD.id)"
# The rights, what else there is, the exit status of a preview and of a deletion, and what is said.
RIGHTS: list[tuple[tuple[str, ...], list[str], int, str]] = [
    (("ALL ON {0}.*",), [], 0, ""),
    ((f"{ALL}*", "PROCESS ON *.*"), [], 0, ""),
    (("ALL ON {0}.p", "ALL ON {0}.c"), [], 3, "GRANT PROCESS ON *.* would show it"),
    (("ALL ON {0}.p", "ALL ON {0}.c", "PROCESS ON *.*"), [], 0, ""),
    ((f"{ALL}p",), [], 3, "the server opens more tables"),
    ((f"{ALL}p", "PROCESS ON *.*"), [], 3, ".c references it, and is hidden from this account; GRANT SELECT"),
    (("ALL ON {0}.*",), ["far"], 3, "the server opens more tables"),
    (("ALL ON {0}.*", "PROCESS ON *.*"), ["far"], 3, "kin # references it, and is hidden from this account"),
    (("ALL ON *.*",), ["far"], 0, ""),
    ((f"{ALL}*",), [LOG.format("p")], 3, "the server opens more tables"),
    ((f"{ALL}*", "PROCESS ON *.*"), [LOG.format("c")], 3, "GRANT TRIGGER ON *.* would show them"),
    ((f"{ALL}*", "PROCESS, TRIGGER ON *.*"), [LOG.format("c")], 0, ""),
]


@on("mariadb")
@pytest.mark.parametrize(("rights", "more", "status", "said"), RIGHTS, ids=str)
def test_what_an_account_cannot_see_stops_a_run(
    yeldro: Yeldro, server: Server, rights: tuple[str, ...], more: list[str], status: int, said: str
) -> None:
    """The counterpart of a superuser's look at the same database: never fewer rows without a stop."""
    place = server.place.rpartition("/")[2]
    server.run([*FAMILY, "CREATE TABLE log (id INTEGER)"])
    far = f"{place}_far"
    if more == ["far"]:
        kin = (
            f"CREATE TABLE {far}.`kin #` (id INTEGER PRIMARY KEY, p INTEGER, FOREIGN KEY (p) REFERENCES {place}.p (id)"
        )
        server.run([f"CREATE DATABASE {far}", f"{kin} ON DELETE SET NULL)", f"INSERT INTO {far}.`kin #` VALUES (1, 1)"])
    else:
        server.run(more)
    before = rows(server, "p", "c")
    try:
        with account(server, *rights) as address:
            lines = [("preview", "p", "--key", "1"), ("delete", "p", "--key", "1", "--yes")]
            lines += [("dedupe", "p", "--same", "name", "--keep", "lowest id", "--yes")] if status else []
            for line in lines:
                done = yeldro(*line, "--db", address)
                assert (done.status, said in done.err) == (status, True), done.out + done.err
            shown = yeldro("survey", "--db", address).out, yeldro("map", "--db", address).out
            assert ["hidden-reference" in text for text in shown] == [bool(status)] * 2
            assert (rows(server, "p", "c") == before) == bool(status)
            kin = server.query(f"SELECT p FROM {far}.`kin #`") if more == ["far"] else []
            assert kin == ([] if more != ["far"] else [(1,)] if status else [(None,)])
    finally:
        server.run([f"DROP DATABASE IF EXISTS {far}"])


LASTING = [
    ("CREATE TABLE log (id INTEGER) ENGINE={}", LOG.format("p"), "log, whose engine {} cannot roll back"),
    ("CREATE TABLE log (id INTEGER) ENGINE={}", LOG.format("c"), "log, whose engine {} cannot roll back"),
    (
        "CREATE TABLE log (id INTEGER) ENGINE={}; CREATE TABLE mid (id INTEGER);"
        " CREATE TRIGGER u AFTER INSERT ON mid FOR EACH ROW REPLACE log SELECT NEW.id",
        LOG.format("p").replace("log", "mid"),
        "rigger u writes to",
    ),
    (
        "CREATE TABLE log (id INTEGER) ENGINE={}; CREATE PROCEDURE note(n INT) BEGIN DELETE FROM log WHERE id = n; END",
        "CREATE TRIGGER t AFTER DELETE ON p FOR EACH ROW CALL note(OLD.id)",
        "log, whose engine {} cannot roll back",
    ),
    (
        "CREATE TABLE log (id INTEGER) ENGINE={}",
        "CREATE TRIGGER t AFTER UPDATE ON c FOR EACH ROW UPDATE /* of */ `log` SET id = 1",
        "log, whose engine {} cannot roll back",
    ),
]


@on("mariadb")
@pytest.mark.parametrize("kind", ["MyISAM", "Aria", "MEMORY"])
@pytest.mark.parametrize(("made", "trigger", "said"), LASTING)
def test_a_trigger_that_writes_to_what_cannot_roll_back(
    yeldro: Yeldro, server: Server, made: str, trigger: str, said: str, kind: str
) -> None:
    server.run([*FAMILY, "DROP PROCEDURE IF EXISTS note", *_statements(made.format(kind)), trigger])
    server.run(["INSERT INTO log VALUES (1), (2)"])
    before = rows(server, "p", "c", "log")
    line = ("delete", "p", "--key", "1", "--dependents", "detach" if "UPDATE" in trigger else "declared")
    for more in (["--yes"], ["--rehearse"]):
        stopped = yeldro(*line, *more, "--db", server.place)
        assert (stopped.status, said.format(kind) in stopped.err) == (3, True), stopped.err
        assert "--no-rollback" in stopped.err
    assert rows(server, "p", "c", "log") == before
    assert yeldro(*line, "--rehearse", "--no-rollback", "--db", server.place).status == 2
    known = yeldro(*line, "--yes", "--no-rollback", "--db", server.place)
    assert (known.status in (0, 3), rows(server, "log") != before[2:]) == (True, True), known.err


def _statements(text: str) -> list[str]:
    """Cut at semicolons, but not inside of a body."""
    parts = text.split("; ")
    return [*parts[:-2], "; ".join(parts[-2:])] if parts[-1] == "END" else parts


@on("mariadb")
def test_partitions_and_servers_that_demand_keys(yeldro: Yeldro, server: Server) -> None:
    server.run(
        [
            "CREATE TABLE w (id INTEGER PRIMARY KEY, n INTEGER) PARTITION BY RANGE (id)"
            " (PARTITION a VALUES LESS THAN (3), PARTITION b VALUES LESS THAN (99))",
            "INSERT INTO w VALUES (1, 1), (2, 1), (3, 2), (4, 2), (5, 3)",
            "CREATE TABLE log (id INTEGER PRIMARY KEY, code VARCHAR(9), KEY (code))",
            "CREATE TRIGGER t AFTER DELETE ON w FOR EACH ROW INSERT INTO log VALUES (OLD.id, 'x')",
            *FAMILY,
        ]
    )
    server.run(["SET GLOBAL innodb_force_primary_key = ON"])
    try:
        there_and_back(yeldro, server, ("w",), "delete", "w", "--where", "id IN (2, 3)")
        server.run(["TRUNCATE log"])
        there_and_back(yeldro, server, ("w",), "dedupe", "w", "--same", "n", "--keep", "highest id")
        there_and_back(yeldro, server, ("p", "c"), "delete", "p", "--key", "1", "--archive-table", "kept")
        there_and_back(yeldro, server, ("p", "c"), "dedupe", "p", "--same", "name", "--keep", "lowest id")
        spelt = ("duplicates", "p", "--same", "name", "--ignore", "accents,case", "--db", server.place)
        assert yeldro(*spelt).status == 0
    finally:
        server.run(["SET GLOBAL innodb_force_primary_key = OFF"])


@on("mariadb")
@pytest.mark.parametrize("ring", [[(1, 1)], [(1, 2), (2, 1)], [(1, 2), (2, 3), (3, 2), (4, 4)]], ids=str)
def test_rows_in_a_cycle_without_nulls_are_a_stop_beforehand(
    yeldro: Yeldro, server: Server, ring: list[tuple[int, int]]
) -> None:
    server.run(
        [
            "CREATE TABLE r (id INTEGER PRIMARY KEY, up INTEGER NOT NULL)",
            f"INSERT INTO r VALUES {', '.join(map(str, ring))}",
            "ALTER TABLE r ADD FOREIGN KEY (up) REFERENCES r (id) ON DELETE CASCADE",
        ]
    )
    line = ("r", "--where", "id < 4", "--all-rows", "--db", server.place)
    shown = yeldro("preview", *line)
    assert (shown.status, "--break-cycles" in shown.err) == (3, True)
    done = yeldro("delete", *line, "--yes", "--break-cycles")
    assert (done.status, rows(server, "r")) == (0, [[row for row in ring if row[0] > 3]])
