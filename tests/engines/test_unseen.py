"""Rows that were lost, or could not come back, where the tally balanced all the same."""

from __future__ import annotations

import csv
import json
import os
import sqlite3
import subprocess
import sys
import time
from collections.abc import Iterator, Sequence
from contextlib import closing, contextmanager
from pathlib import Path
from typing import Any

import pymysql
import pytest

from tests.conftest import Result, Yeldro
from tests.servers import Server, login, rows
from yeldro.engines.postgresql.connection import PostgresqlDatabase
from yeldro.engines.shared.gate import Gate
from yeldro.errors import DatabaseFailed


def on(*engines: str) -> pytest.MarkDecorator:
    """Only on these engines: what is tried is a thing of theirs."""
    return pytest.mark.parametrize("any_server", engines, indirect=True)


def there_and_back(yeldro: Yeldro, server: Server, tables: Sequence[str], *line: str) -> Result:
    """Run a command, restore it, and expect every row to be as it was; restored again it does
    nothing."""
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
def test_a_reference_to_a_partitioned_table_is_one_reference(
    yeldro: Yeldro, server: Server
) -> None:
    server.run(PARTITIONED)
    looked = yeldro("delete", "c", "--orphans", "--yes", "--db", server.place)
    assert (looked.status, "No row matches" in looked.out) == (0, True)
    there_and_back(yeldro, server, ("p", "c"), "delete", "p", "--where", "id IN (1, 11)")
    there_and_back(yeldro, server, ("p", "c"), "delete", "c", "--where", "id < 4")
    there_and_back(yeldro, server, ("p", "c"), "delete", "p2", "--where", "id = 12")
    survey = yeldro("survey", "--db", server.place, "--format", "json").document
    assert [one["referenced_by"] for one in survey["tables"] if one["name"] == "p"] == [
        [{"reference": "c.p -> p.id", "on_delete": "CASCADE", "indexed": False, "broken": None}]
    ]
    mapped = yeldro("map", "--db", server.place, "--format", "json").document
    assert len(mapped["references"]) == 1


@on("postgresql")
def test_a_reference_to_one_partition_is_followed_from_the_whole_table(
    yeldro: Yeldro, server: Server
) -> None:
    server.run(
        *PARTITIONED,
        "CREATE TABLE k (id INTEGER PRIMARY KEY, p INTEGER REFERENCES p1 ON DELETE CASCADE)",
    )
    server.run(["INSERT INTO k VALUES (1, 1), (2, 2)"])
    there_and_back(yeldro, server, ("p", "c", "k"), "delete", "p", "--where", "id IN (1, 12)")
    server.run(
        "CREATE TABLE s (id INTEGER, era INTEGER, PRIMARY KEY (id, era)) PARTITION BY RANGE (era)",
        "CREATE TABLE s1 PARTITION OF s FOR VALUES FROM (0) TO (10)",
        "CREATE TABLE s2 PARTITION OF s FOR VALUES FROM (10) TO (20)",
        "ALTER TABLE s1 ADD UNIQUE (id)",
        "CREATE TABLE t (id INTEGER PRIMARY KEY, s INTEGER REFERENCES s1 (id) ON DELETE CASCADE)",
        "INSERT INTO s VALUES (5, 1), (5, 11), (6, 11)",
        "INSERT INTO t VALUES (1, 5)",
    )
    stopped = yeldro("delete", "s", "--where", "era = 11 AND id = 5", "--yes", "--db", server.place)
    assert (stopped.status, "unique in that one alone" in stopped.err) == (3, True)
    assert yeldro("delete", "s", "--where", "id = 6", "--yes", "--db", server.place).status == 0
    assert rows(server, "s", "t") == [[(5, 1), (5, 11)], [(1, 5)]]


@on("postgresql")
def test_duplicates_of_a_partitioned_table(yeldro: Yeldro, server: Server) -> None:
    server.run([*PARTITIONED, "ALTER TABLE p ADD name TEXT", "UPDATE p SET name = id % 2"])
    there_and_back(
        yeldro, server, ("p", "c"), "dedupe", "p", "--same", "name", "--keep", "lowest id"
    )
    assert rows(server, "c") == [[(1, 1), (2, 11), (3, 12), (4, None)]]


@on("postgresql")
def test_a_reference_compares_by_its_own_operator_and_collation(
    yeldro: Yeldro, server: Server
) -> None:
    server.run(
        "DROP SCHEMA IF EXISTS far CASCADE",
        "CREATE SCHEMA far",
        "CREATE EXTENSION citext SCHEMA far",
        'CREATE TABLE p (code far.citext PRIMARY KEY, name TEXT COLLATE "C" UNIQUE)',
        "CREATE TABLE c (id INTEGER PRIMARY KEY, p far.citext REFERENCES p ON DELETE CASCADE,"
        ' n TEXT COLLATE "POSIX" REFERENCES p (name), d TEXT REFERENCES p (name))',
        "INSERT INTO p VALUES ('Fen', 'a'), ('Mere', 'b'), ('Beck', 'c')",
        "INSERT INTO c VALUES (1, 'fen', 'a', 'a'), (2, 'MERE', NULL, NULL), (3, 'Beck', 'c', 'c')",
    )
    assert "No row matches" in yeldro("delete", "c", "--orphans", "--yes", "--db", server.place).out
    there_and_back(
        yeldro, server, ("p", "c"), "delete", "p", "--where", "name = 'a'", "--dependents", "delete"
    )
    there_and_back(yeldro, server, ("p", "c"), "delete", "p", "--where", "name = 'b'")
    server.run(["DROP SCHEMA far CASCADE"])


@on("postgresql")
@pytest.mark.parametrize("part", [False, True])
def test_what_a_publication_or_a_foreign_partition_would_refuse_is_a_stop(
    yeldro: Yeldro, server: Server, part: bool
) -> None:
    """The publisher needs wal_level = logical only to publish: without it the deletion fails all
    the same."""
    server.run(
        "CREATE TABLE w (id INTEGER NOT NULL) PARTITION BY RANGE (id)",
        "CREATE TABLE w1 PARTITION OF w FOR VALUES FROM (0) TO (10)",
        "INSERT INTO w VALUES (1), (2)",
    )
    if part:
        server.run(
            "CREATE EXTENSION postgres_fdw",
            "CREATE SERVER far FOREIGN DATA WRAPPER postgres_fdw",
            "CREATE FOREIGN TABLE w2 PARTITION OF w FOR VALUES FROM (10) TO (20) SERVER far",
        )
    else:
        server.run(["CREATE PUBLICATION ours FOR TABLE w1"])
    stopped = yeldro("delete", "w", "--where", "id = 1", "--yes", "--db", server.place)
    said = "is a foreign table" if part else "the publication ours publishes its partition w1"
    assert (stopped.status, said in stopped.err) == (3, True), stopped.err
    server.run(["DROP EXTENSION postgres_fdw CASCADE" if part else "DROP PUBLICATION ours"])


@contextmanager
def account(server: Server, *grants: str) -> Iterator[str]:
    """A new account of MariaDB with these rights, and that of making temporary tables."""
    with login(server, "CREATE TEMPORARY TABLES ON {0}.*", *grants) as place:
        yield place


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
    (("ALL ON {0}.*", ), [], 0, ""),
    ((f"{ALL}*", "PROCESS ON *.*"), [], 0, ""),
    (("ALL ON {0}.p", "ALL ON {0}.c"), [], 3, "GRANT PROCESS ON *.* would show it"),
    (("ALL ON {0}.p", "ALL ON {0}.c", "PROCESS ON *.*"), [], 0, ""),
    ((f"{ALL}p", ), [], 3, "the server opens more tables"),
    ((f"{ALL}p", "PROCESS ON *.*"), [], 3, ".c references it, and is hidden from this account; GRANT SELECT"),
    (("ALL ON {0}.*", ), [LOG.format("p")], 0, ""),
    (("ALL ON {0}.*", ), [LOG.format("c").replace("VALUES", "SELECT p.id FROM p JOIN log ON p.id = log.id -- ")], 0,
     ""),
    (("ALL ON {0}.*", ), [LOG.format("p"), "far"], 3, "the server opens more tables"),
    (("ALL ON {0}.*", ), ["far"], 3, "the server opens more tables"),
    (("ALL ON {0}.*", "PROCESS ON *.*"), ["far"], 3, "kin # references it, and is hidden from this account"),
    (("ALL ON *.*", ), ["far"], 0, ""),
    ((f"{ALL}*", ), [LOG.format("p")], 3, "the server opens more tables"),
    ((f"{ALL}*", "PROCESS ON *.*"), [LOG.format("c")], 3, "GRANT TRIGGER ON *.* would show them"),
    ((f"{ALL}*", "PROCESS, TRIGGER ON *.*"), [LOG.format("c")], 0, ""),
]  # fmt: skip


@on("mariadb")
@pytest.mark.parametrize(("rights", "more", "status", "said"), RIGHTS, ids=str)
def test_what_an_account_cannot_see_stops_a_run(
    yeldro: Yeldro, server: Server, rights: tuple[str, ...], more: list[str], status: int, said: str
) -> None:
    """The counterpart of a superuser's look at the same database: never fewer rows without a stop."""
    place = server.place.rpartition("/")[2]
    server.run([*FAMILY, "CREATE TABLE log (id INTEGER)"])
    far = f"{place}_far"
    is_far = "far" in more
    server.run([one for one in more if one != "far"])
    if is_far:
        kin = f"CREATE TABLE {far}.`kin #` (id INTEGER PRIMARY KEY, p INTEGER, FOREIGN KEY (p) REFERENCES {place}.p (id)"
        server.run(
            f"CREATE DATABASE {far}",
            f"{kin} ON DELETE SET NULL)",
            f"INSERT INTO {far}.`kin #` VALUES (1, 1)",
        )
    before = rows(server, "p", "c")
    try:
        with account(server, *rights) as address:
            lines = [("preview", "p", "--key", "1"), ("delete", "p", "--key", "1", "--yes")]
            lines += (
                [("dedupe", "p", "--same", "name", "--keep", "lowest id", "--yes")]
                if status
                else []
            )
            for line in lines:
                done = yeldro(*line, "--db", address)
                assert (done.status, said in done.err) == (status, True), done.out + done.err
            shown = yeldro("survey", "--db", address).out, yeldro("map", "--db", address).out
            assert ["hidden-reference" in text for text in shown] == [bool(status)] * 2
            assert (rows(server, "p", "c") == before) == bool(status)
            left = server.query(f"SELECT p FROM {far}.`kin #`") if is_far else []
            assert left == ([] if not is_far else [(1,)] if status else [(None,)])
    finally:
        server.run([f"DROP DATABASE IF EXISTS {far}"])


BOTH = "GRANT ALL ON p, c TO {0}"
ROLES: list[tuple[list[str], int]] = [
    ([BOTH], 0),
    (["ALTER ROLE {0} SUPERUSER"], 0),
    (["ALTER TABLE p OWNER TO {0}", "ALTER TABLE c OWNER TO {0}"], 0),
    (["GRANT SELECT, DELETE ON p, c TO {0}"], 5),
    (["GRANT SELECT ON p, c TO {0}"], 5),
    (["GRANT DELETE ON p, c TO {0}"], 5),
    (["GRANT ALL ON p TO {0}"], 5),
    (["GRANT SELECT (id), UPDATE, DELETE ON p TO {0}", "GRANT ALL ON c TO {0}"], 5),
    (["ALTER TABLE p OWNER TO {0}", "GRANT SELECT ON c TO {0}"], 5),
    ([BOTH, "ALTER TABLE c ENABLE ROW LEVEL SECURITY"], 5),
    ([BOTH, "ALTER TABLE c ENABLE ROW LEVEL SECURITY", "CREATE POLICY q ON c USING (id > 1)"], 5),
    ([BOTH, "ALTER ROLE {0} SET default_transaction_read_only = on"], 5),
    ([BOTH, "CREATE SCHEMA hid", "CREATE TABLE hid.k (p INTEGER REFERENCES p ON DELETE CASCADE)",
     "INSERT INTO hid.k VALUES (1)"], 5),
]  # fmt: skip


@on("postgresql")
@pytest.mark.parametrize(("rights", "status"), ROLES, ids=str)
def test_what_a_role_may_not_do_stops_a_run(
    yeldro: Yeldro, server: Server, rights: list[str], status: int
) -> None:
    """What it does is what a superuser would, and else nothing."""
    role = f"yt_{server.place[-8:]}"
    server.run([*FAMILY, f"CREATE ROLE {role} LOGIN", f"GRANT USAGE ON SCHEMA public TO {role}"])
    before = rows(server, "p", "c")
    try:
        server.run([one.format(role) for one in rights])
        done = yeldro("delete p --key 1 --yes --db", server.place.replace("postgres@", f"{role}@"))
        assert done.status == status, done.out + done.err
        left = [[row for row in table if row[0] != 1] for table in before]
        assert rows(server, "p", "c") == (before if status else left)
    finally:
        server.run(
            f"REASSIGN OWNED BY {role} TO postgres", f"DROP OWNED BY {role}", f"DROP ROLE {role}"
        )
        server.run(["DROP SCHEMA IF EXISTS hid CASCADE"])


# What there is beside a log that cannot roll back, the trigger, and what is said.
LASTING: list[tuple[list[str], str, str]] = [
    ([], LOG.format("p"), "log, whose engine {} cannot roll back"),
    ([], LOG.format("c"), "log, whose engine {} cannot roll back"),
    (["CREATE TABLE mid (id INTEGER)", "CREATE TRIGGER u AFTER INSERT ON mid FOR EACH ROW REPLACE log SELECT NEW.id"],
     LOG.format("p").replace("log", "mid"), "rigger u writes to"),
    (["CREATE PROCEDURE note(n INT) BEGIN DELETE FROM log WHERE id = n; END"],
     "CREATE TRIGGER t AFTER DELETE ON p FOR EACH ROW CALL note(OLD.id)", "log, whose engine {} cannot roll back"),
    ([], "CREATE TRIGGER t AFTER UPDATE ON c FOR EACH ROW UPDATE /* of */ `log` SET id = 1", "log, whose engine {}"),
    (["CREATE VIEW seen AS SELECT * FROM log"], LOG.format("p").replace("log", "seen"), "writes to the view seen"),
]  # fmt: skip


@on("mariadb")
@pytest.mark.parametrize("kind", ["MyISAM", "Aria", "MEMORY"])
@pytest.mark.parametrize(("made", "trigger", "said"), LASTING)
def test_a_trigger_that_writes_to_what_cannot_roll_back(
    yeldro: Yeldro, server: Server, made: list[str], trigger: str, said: str, kind: str
) -> None:
    log = [f"CREATE TABLE log (id INTEGER) ENGINE={kind}", "INSERT INTO log VALUES (1), (2)"]
    server.run([*FAMILY, "DROP PROCEDURE IF EXISTS note", *log, *made, trigger])
    before = rows(server, "p", "c", "log")
    line = ("delete p --key 1 --dependents", "detach" if "UPDATE" in trigger else "declared")
    for more in (["--yes"], ["--rehearse"]):
        stopped = yeldro(*line, *more, "--db", server.place)
        assert (stopped.status, said.format(kind) in stopped.err) == (3, True), stopped.err
        assert "--no-rollback" in stopped.err
    assert rows(server, "p", "c", "log") == before
    assert yeldro(*line, "--rehearse", "--no-rollback", "--db", server.place).status == 2
    known = yeldro(*line, "--yes", "--no-rollback", "--db", server.place)
    assert (known.status in (0, 3), rows(server, "log") != before[2:]) == (True, True), known.err


@on("mariadb")
@pytest.mark.alone
def test_partitions_and_servers_that_demand_keys(yeldro: Yeldro, server: Server) -> None:
    server.run(
        "CREATE TABLE w (id INTEGER PRIMARY KEY, n INTEGER) PARTITION BY RANGE (id)"
        " (PARTITION a VALUES LESS THAN (3), PARTITION b VALUES LESS THAN (99))",
        "INSERT INTO w VALUES (1, 1), (2, 1), (3, 2), (4, 2), (5, 3)",
        "CREATE TABLE log (id INTEGER PRIMARY KEY, code VARCHAR(9), KEY (code))",
        "CREATE TRIGGER t AFTER DELETE ON w FOR EACH ROW INSERT INTO log VALUES (OLD.id, 'x')",
        *FAMILY,
    )
    server.run(["SET GLOBAL innodb_force_primary_key = ON"])
    try:
        there_and_back(yeldro, server, ("w",), "delete", "w", "--where", "id IN (2, 3)")
        server.run(["TRUNCATE log"])
        there_and_back(yeldro, server, ("w",), "dedupe", "w", "--same", "n", "--keep", "highest id")
        there_and_back(
            yeldro, server, ("p", "c"), "delete", "p", "--key", "1", "--archive-table", "kept"
        )
        there_and_back(
            yeldro, server, ("p", "c"), "dedupe", "p", "--same", "name", "--keep", "lowest id"
        )
        spelt = ("duplicates p --same name --ignore accents,case --db", server.place)
        assert yeldro(*spelt).status == 0
    finally:
        server.run(["SET GLOBAL innodb_force_primary_key = OFF"])


@on("mariadb")
@pytest.mark.parametrize(
    "ring", [[(1, 1)], [(1, 2), (2, 1)], [(1, 2), (2, 3), (3, 2), (4, 4)]], ids=str
)
def test_rows_in_a_cycle_without_nulls_are_a_stop_beforehand(
    yeldro: Yeldro, server: Server, ring: list[tuple[int, int]]
) -> None:
    server.run(
        "CREATE TABLE r (id INTEGER PRIMARY KEY, up INTEGER NOT NULL)",
        f"INSERT INTO r VALUES {', '.join(map(str, ring))}",
        "ALTER TABLE r ADD FOREIGN KEY (up) REFERENCES r (id) ON DELETE CASCADE",
    )
    line = ("r", "--where", "id < 4", "--all-rows", "--db", server.place)
    shown = yeldro("preview", *line)
    assert (shown.status, "--break-cycles" in shown.err) == (3, True)
    done = yeldro("delete", *line, "--yes", "--break-cycles")
    assert (done.status, rows(server, "r")) == (0, [[row for row in ring if row[0] > 3]])


WHOLE = [
    ("TRUNCATE notes", "notes: emptied"),
    ("TRUNCATE far", "far1: emptied"),
    ("DROP TABLE notes", "notes: emptied, rebuilt or dropped"),
    ("ALTER TABLE notes DROP COLUMN n", "notes: emptied, rebuilt or dropped"),
    ("ALTER TABLE far DETACH PARTITION far1", "far1: emptied, rebuilt or dropped"),
    (
        "PERFORM lo_unlink(lomowner_oid) FROM (SELECT oid AS lomowner_oid FROM pg_largeobject_metadata) AS o",
        "pg_large",
    ),
    ("REFRESH MATERIALIZED VIEW seen", ""),
]


@on("postgresql")
@pytest.mark.parametrize(("does", "said"), WHOLE, ids=[does[:30] for does, _ in WHOLE])
def test_what_a_trigger_does_to_whole_tables_is_noticed(
    yeldro: Yeldro, server: Server, does: str, said: str
) -> None:
    server.run(
        *FAMILY,
        "CREATE TABLE notes (id INTEGER, n INTEGER)",
        "CREATE TABLE log (id INTEGER)",
        "CREATE TABLE far (id INTEGER) PARTITION BY RANGE (id)",
        "CREATE TABLE far1 PARTITION OF far FOR VALUES FROM (0) TO (9)",
        "INSERT INTO notes VALUES (1, 1), (2, 2)",
        "INSERT INTO far VALUES (1), (2)",
        "CREATE MATERIALIZED VIEW seen AS SELECT * FROM log",
        "SELECT lo_from_bytea(0, 'abc')",
        f"CREATE FUNCTION f() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN {does}; RETURN NULL; END $$",
        "CREATE TRIGGER t AFTER DELETE ON p FOR EACH STATEMENT EXECUTE FUNCTION f()",
    )
    tables = ("p", "c", "notes", "far", "pg_largeobject_metadata")
    before = rows(server, *tables)
    done = yeldro("delete", "p", "--key", "1", "--yes", "--db", server.place)
    assert (done.status, said in done.err) == (3 if said else 0, True), done.err
    assert not said or ("the trigger t on p" in done.err and rows(server, *tables) == before)
    server.run(["SELECT lo_unlink(oid) FROM pg_largeobject_metadata"])


TOUCHING = {
    "sqlite": "CREATE TRIGGER {name} AFTER {event} ON {table} BEGIN {body}; END",
    "mariadb": "CREATE TRIGGER {name} AFTER {event} ON {table} FOR EACH ROW {body}",
    "postgresql": "CREATE FUNCTION {name}() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN {body}; RETURN NULL; END $$;"
    " CREATE TRIGGER {name} AFTER {event} ON {table} FOR EACH ROW EXECUTE FUNCTION {name}()",
}
OWN = "UPDATE p SET upper_name = upper(name) WHERE id = NEW.id"
# A trigger on the insertion of which table, what it does, the exit status of the restore, and what
# it says.
TOUCHED: list[tuple[str, str, int, str]] = [
    ("p", OWN, 0, "Committed"),
    ("c", "UPDATE p SET upper_name = upper(name) WHERE id = NEW.p", 0, "Committed"),
    ("p", "UPDATE p SET upper_name = 'X' WHERE id = NEW.id", 3,
     "2 rows were to be restored, 0 are as they were (upper_n"),
    ("p", "UPDATE p SET upper_name = 'X'", 3, "(upper_name differs)"),
    ("p", "UPDATE p SET upper_name = 'X' WHERE id = 3", 3, "changed rows, the tally explains"),
    ("c", "UPDATE p SET upper_name = 'X' WHERE id = 3", 3, "changed rows, the tally explains"),
    ("c", "DELETE FROM notes WHERE id = NEW.id", 3, "notes"),
    ("c", "UPDATE notes SET n = n WHERE id = NEW.id", 3, "notes"),
]  # fmt: skip


@pytest.mark.parametrize(
    ("table", "body", "status", "said"), TOUCHED, ids=lambda value: str(value)[:50]
)
def test_a_restore_and_triggers_that_touch_rows(
    yeldro: Yeldro, server: Server, table: str, body: str, status: int, said: str
) -> None:
    """What counts is the end: a trigger may write to restored rows as long as they are what they
    were."""
    if server.engine == "mariadb" and table == "p":
        return  # a trigger there cannot write to its own table
    server.run(
        *FAMILY,
        "ALTER TABLE p ADD COLUMN upper_name VARCHAR(9)",
        "UPDATE p SET upper_name = upper(name)",
    )
    server.run(
        "CREATE TABLE notes (id INTEGER PRIMARY KEY, n INTEGER)",
        "INSERT INTO notes VALUES (1, 1), (2, 2)",
    )
    made = TOUCHING[server.engine].format(name="t", event="INSERT", table=table, body=body)
    server.run([made] if server.engine != "postgresql" else _function(made))
    before = rows(server, "p", "c", "notes")
    assert yeldro("delete", "p", "--where", "id < 3", "--yes", "--db", server.place).status == 0
    gone = rows(server, "p", "c", "notes")
    back = yeldro("restore", "last", "--yes", "--db", server.place)
    harmless = server.engine != "postgresql" and body.startswith(
        "UPDATE notes"
    )  # told apart by what rows hold
    if harmless:
        status, said = 0, "Committed"
    assert (back.status, said in back.out + back.err) == (status, True), back.out + back.err
    assert rows(server, "p", "c", "notes") == (gone if status else before)


def test_rows_with_nulls_in_the_key_are_other_rows_too(yeldro: Yeldro, server: Server) -> None:
    """A restore finds its rows by unique columns that hold no NULL in them, and others may."""
    server.run(
        "CREATE TABLE p (code INTEGER UNIQUE, name VARCHAR(9))",
        "CREATE TABLE c (id INTEGER PRIMARY KEY, p INTEGER, FOREIGN KEY (p) REFERENCES p (code) ON DELETE CASCADE)",
        "INSERT INTO p VALUES (1, 'a'), (NULL, 'b')",
        "INSERT INTO c VALUES (1, 1)",
    )
    assert yeldro("delete", "p", "--where", "code = 1", "--yes", "--db", server.place).status == 0
    body = "UPDATE p SET name = 'spoilt' WHERE code IS NULL"
    made = TOUCHING[server.engine].format(name="t", event="INSERT", table="c", body=body)
    server.run(_function(made) if server.engine == "postgresql" else made)
    back = yeldro("restore", "last", "--yes")
    assert (back.status, rows(server, "p", "c")) == (3, [[(None, "b")], []]), back.out + back.err


SPOILING = {
    "sqlite": ["INSERT OR REPLACE INTO notes VALUES (NEW.id, 9)",
               "INSERT INTO notes VALUES (NEW.id, 9) ON CONFLICT (id) DO UPDATE SET n = 9"],
    "mariadb": ["REPLACE INTO notes VALUES (NEW.id, 9)",
                "INSERT INTO notes VALUES (NEW.id, 9) ON DUPLICATE KEY UPDATE n = 9"],
    "postgresql": ["INSERT INTO notes VALUES (NEW.id, 9) ON CONFLICT (id) DO UPDATE SET n = 9"],
}  # fmt: skip


@pytest.mark.parametrize("event", ["INSERT", "UPDATE"])
def test_a_harmless_trigger_hides_no_other_one(yeldro: Yeldro, server: Server, event: str) -> None:
    """One writes to rows and leaves them as they are; another one, which inserts, writes over rows."""
    for spoiling in SPOILING[server.engine]:
        server.clear()
        server.run(
            FAMILY,
            "CREATE TABLE notes (id INTEGER PRIMARY KEY, n INTEGER)",
            "INSERT INTO notes VALUES (1, 1)",
        )
        line = ("delete p --key 1 --dependents", "delete" if event == "INSERT" else "detach")
        assert yeldro(*line, "--yes", "--db", server.place).status == 0
        for name, body in (("t", "UPDATE p SET name = name WHERE id = 3"), ("u", spoiling)):
            made = TOUCHING[server.engine].format(name=name, event=event, table="c", body=body)
            server.run(_function(made) if server.engine == "postgresql" else made)
        before = rows(server, "p", "c", "notes")
        back = yeldro("restore", "last", "--yes")
        assert (back.status != 0, rows(server, "p", "c", "notes")) == (True, before), (
            spoiling,
            back.out,
        )


def _function(made: str) -> list[str]:
    """A function and its trigger are two statements."""
    head, _, tail = made.partition("$$;")
    return [head + "$$", tail]


AFFINITIES = [
    ("TEXT", "INT", "'1', '2.5', 'x'", "1, 2.5, 'x'"),
    ("TEXT", "REAL", "'1.0', '2.5', 'x'", "1, '2.5', 'x'"),
    ("TEXT", "NUMERIC", "'1', '2.5', 'x'", "1.0, 2.5, 'x'"),
    ("INT", "TEXT", "1, 2.5, 'x'", "'1', '2.5', 'x'"),
    ("REAL", "TEXT", "1.0, 2.5, 'x'", "'1', '2.50', 'x'"),
    ("NUMERIC", "BLOB", "1, 2.5, 'x'", "'1', '2.5', 'x'"),
    ("BLOB", "TEXT", "'1', '2.5', X'78'", "1, '2.5', X'78'"),
    ("INT", "NUMERIC", "1, 2.5, 'x'", "1.0, '2.5', 'x'"),
]


@on("sqlite")
@pytest.mark.parametrize(("parent", "child", "keys", "values"), AFFINITIES, ids=str)
def test_a_reference_between_types(
    yeldro: Yeldro, server: Server, parent: str, child: str, keys: str, values: str
) -> None:
    """SQLite gives the value of a reference the affinity of what it points at."""
    one = ", ".join(f"({value})" for value in keys.split(", "))
    pairs = ", ".join(f"({place}, {value})" for place, value in enumerate(values.split(", ")))
    server.run(
        f"CREATE TABLE p (k {parent} PRIMARY KEY NOT NULL)",
        f"CREATE TABLE c (id INTEGER PRIMARY KEY, k {child} REFERENCES p ON DELETE CASCADE)",
        f"INSERT INTO p VALUES {one}",
        f"INSERT INTO c VALUES {pairs}",
    )
    broken = {row[1] for row in server.query("PRAGMA foreign_key_check")}
    looked = yeldro("preview", "c", "--orphans", "--db", server.place, "--format", "json").document
    assert {row["id"] for row in looked["sample"]} == broken
    there_and_back(yeldro, server, ("p", "c"), "delete", "p", "--all-rows")
    there_and_back(yeldro, server, ("p", "c"), "delete", "c", "--all-rows")


@on("sqlite", "postgresql")
@pytest.mark.long
def test_many_columns_and_none(yeldro: Yeldro, server: Server) -> None:
    number = 999 if server.engine == "sqlite" else 600
    columns = ", ".join(f"c{place} INTEGER" for place in range(1, number))
    server.run(
        f"CREATE TABLE w (id INTEGER PRIMARY KEY, {columns})",
        "INSERT INTO w (id, c1) VALUES (1, 5), (2, 5)",
    )
    there_and_back(yeldro, server, ("w",), "delete", "w", "--key", "1")
    there_and_back(yeldro, server, ("w",), "dedupe", "w", "--same", "c1", "--keep", "fullest")
    if server.engine == "postgresql":
        server.run(
            "CREATE TABLE e ()", "INSERT INTO e DEFAULT VALUES", "INSERT INTO e DEFAULT VALUES"
        )
        stopped = yeldro("delete", "e", "--all-rows", "--yes", "--db", server.place)
        assert (stopped.status, "it has no columns" in stopped.err) == (3, True)


@on("postgresql")
def test_detachments_that_cross_partitions_or_are_not_whole(yeldro: Yeldro, server: Server) -> None:
    server.run(
        "CREATE TABLE p (a INTEGER, b INTEGER, PRIMARY KEY (a, b))",
        "CREATE TABLE c (id INTEGER, a INTEGER DEFAULT 9, b INTEGER, FOREIGN KEY (a, b) REFERENCES p"
        " ON DELETE SET NULL, PRIMARY KEY (id, a)) PARTITION BY LIST (a)".replace(
            ", PRIMARY KEY (id, a)", ""
        ),
        "CREATE TABLE c1 PARTITION OF c FOR VALUES IN (1, 2)",
        "CREATE TABLE c2 PARTITION OF c DEFAULT",
        "CREATE TABLE q (id INTEGER PRIMARY KEY)",
        "CREATE TABLE d (id INTEGER, q INTEGER DEFAULT 9 REFERENCES q ON DELETE SET DEFAULT) PARTITION BY LIST (q)",
        "CREATE TABLE d1 PARTITION OF d FOR VALUES IN (1, 2)",
        "CREATE TABLE d2 PARTITION OF d DEFAULT",
        "CREATE TABLE f (id INTEGER PRIMARY KEY, a INTEGER, b INTEGER NOT NULL,"
        " FOREIGN KEY (a, b) REFERENCES p MATCH FULL)",
        "INSERT INTO p VALUES (1, 1), (2, 2), (3, 3)",
        "INSERT INTO c VALUES (1, 1, 1), (2, 2, 2), (3, 3, 3)",
        "INSERT INTO q VALUES (1), (2), (9)",
        "INSERT INTO d VALUES (1, 1), (2, 2), (3, 9)",
        "INSERT INTO f VALUES (1, 3, 3)",
    )
    there_and_back(yeldro, server, ("p", "c"), "delete", "p", "--where", "a < 3")
    there_and_back(yeldro, server, ("q", "d"), "delete", "q", "--where", "id < 9")
    line = ("p", "--where", "a = 3", "--dependents", "detach", "--db", server.place)
    shown = yeldro("preview", *line)
    assert (shown.status, "no column of the reference may be NULL" in shown.out) == (3, True), (
        shown.out
    )


def record_of(folder: Path) -> Path:
    (found,) = folder.glob("yeldro-runs/*/run.json")
    return found


def doubt(path: Path, **facts: Any) -> None:
    """Let a record say what one says whose process died while it committed."""
    path.write_text(json.dumps({**json.loads(path.read_text()), "outcome": "in-doubt"} | facts))


# What the record says, how many of the two rows came back by hand, and what becomes of the run.
DOUBTS: list[tuple[dict[str, Any], int, str]] = [
    ({"transaction": ""}, 0, "committed"),
    ({"transaction": ""}, 1, "in-doubt"),
    ({"transaction": ""}, 2, "rolled-back"),
    ({"transaction": "999999999999"}, 1, "in-doubt"),
    ({"final": False}, 1, "rolled-back"),
    ({}, 1, "as the server knows"),
]


# How it is done, how it is taken back and done again by hand, and what is told of two rows.
DOUBTED = {
    "delete": ([], "INSERT INTO w VALUES ({0}, 7)", "DELETE FROM w WHERE id = 1", "archived rows are gone from their tables, and the others are there"),
    "clear": (["--columns", "n"], "UPDATE w SET n = 7 WHERE id = {0}", "UPDATE w SET n = NULL WHERE id = 1", "rows are as it cleared them, and the others not"),
}  # fmt: skip


@pytest.mark.parametrize("verb", DOUBTED)
@pytest.mark.parametrize(("facts", "back", "outcome"), DOUBTS, ids=str)
def test_a_run_in_doubt(  # a table of two dimensions
    yeldro: Yeldro,
    server: Server,
    tmp_path: Path,
    facts: dict[str, Any],
    back: int,
    outcome: str,
    verb: str,
) -> None:
    options, undo, do, told_of = DOUBTED[verb]
    server.run(
        "CREATE TABLE w (id INTEGER PRIMARY KEY, n INTEGER)",
        "INSERT INTO w VALUES (1, 7), (2, 7), (3, 7)",
    )
    assert yeldro(verb, "w", "--where", "id < 3", *options, "--yes").status == 0
    path = record_of(tmp_path)
    doubt(path, **facts)
    server.run([undo.format(number) for number in range(1, back + 1)])
    if outcome == "as the server knows":
        outcome = "committed" if server.engine == "postgresql" else "in-doubt"
    other = tmp_path / "other.db"
    sqlite3.connect(other).execute("CREATE TABLE w (id INTEGER PRIMARY KEY, n INTEGER)")
    elsewhere = yeldro("history", "--db", str(other))
    told = "which is another database" in elsewhere.err
    assert (json.loads(path.read_text())["outcome"], told) == ("in-doubt", False)
    history = yeldro("history")
    assert json.loads(path.read_text())["outcome"] == outcome
    undecided = f"{2 - back} of its 2 {told_of}"
    assert (undecided in history.err) == (outcome == "in-doubt"), history.err
    if outcome == "in-doubt":
        assert yeldro("restore", "last", "--yes").status == 3
    if outcome == "rolled-back" and back == 2:
        server.run(do)
        again = yeldro("restore", "last", "--yes", "--even-if-altered")
        assert "1 of its rows are gone or clear" in again.out, again.out
        assert rows(server, "w") == [[(1, 7), (2, 7), (3, 7)]]


def test_nothing_is_settled_where_the_server_may_lag(
    yeldro: Yeldro, server: Server, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    server.run("CREATE TABLE w (id INTEGER PRIMARY KEY)", "INSERT INTO w VALUES (1), (2)")
    assert yeldro("delete", "w", "--key", "1", "--yes", "--db", server.place).status == 0
    doubt(record_of(tmp_path))
    with closing(server.open()) as database:
        monkeypatch.setattr(type(database), "find_lag", lambda _: "it is a replica")
    assert "cannot tell, because it is a replica" in yeldro("history").err
    monkeypatch.undo()
    assert yeldro("history", "--db", server.place).err == ""
    assert json.loads(record_of(tmp_path).read_text())["outcome"] == "committed"


# How many bytes are left of the archive, None: it is gone, "": it says that it was never finished.
DAMAGES = [
    (left, outcome) for left in (0, 100, 9000, None) for outcome in ("committed", "in-doubt")
]


@pytest.mark.parametrize(
    ("left", "outcome"), [*DAMAGES, ("", "committed"), ("", "in-doubt"), ("", "rolled-back")]
)
def test_a_damaged_archive_is_no_empty_one(
    yeldro: Yeldro, server: Server, tmp_path: Path, left: int | str | None, outcome: str
) -> None:
    server.run(["CREATE TABLE w (id INTEGER PRIMARY KEY)", "INSERT INTO w VALUES (1), (2), (3)"])
    assert yeldro("delete", "w", "--where", "id < 3", "--yes", "--db", server.place).status == 0
    path = record_of(tmp_path)
    archive = path.with_name("rows.sqlite")
    if left is None:
        archive.unlink()
    elif isinstance(left, int):
        archive.write_bytes(archive.read_bytes()[:left])
    else:
        with closing(sqlite3.connect(archive)) as file:
            file.execute("UPDATE yeldro_archive SET complete = 0")
            file.execute("UPDATE yeldro_portions SET first_row = NULL, last_row = NULL")
            file.commit()
    if outcome != "committed":
        doubt(path, transaction="", outcome=outcome)
    back = yeldro("restore", "last", "--yes", "--even-if-altered")
    said = "There is no archive" if left is None else "is damaged"
    assert (back.status, said in back.err) == (
        (5, True) if outcome != "rolled-back" else (0, False)
    ), back.err
    yeldro("history")
    assert json.loads(path.read_text())["outcome"] == outcome


UNREADABLE = [
    "",
    "[]",
    "7",
    "[" * 99_999,
    '{"began": 1e999}',
    '{"format": 1, "restored": [{}]}',
    "1" * 9999,
]


@on("sqlite")
def test_one_record_that_cannot_be_read_blocks_nothing(
    yeldro: Yeldro, server: Server, tmp_path: Path
) -> None:
    server.run(["CREATE TABLE w (id INTEGER PRIMARY KEY)", "INSERT INTO w VALUES (1), (2), (3)"])
    assert yeldro("delete", "w", "--where", "id < 3", "--yes", "--db", server.place).status == 0
    whole = json.loads(record_of(tmp_path).read_text())
    texts = [
        *UNREADABLE,
        json.dumps({**whole, "reach": [1]}),
        json.dumps({**whole, "began": "soon"}),
    ]
    for number, text in enumerate(texts):
        folder = tmp_path / "yeldro-runs" / f"x{number}"
        folder.mkdir()
        (folder / "run.json").write_text(text)
    history = yeldro("history")
    assert (history.status, history.err.count("Left out: ")) == (0, len(texts))
    assert yeldro("restore", "last", "--yes").status == 0
    assert yeldro("restore", "x1", "--yes").status == 2


def test_a_restore_drops_the_unique_index_that_the_run_added(
    yeldro: Yeldro, server: Server
) -> None:
    server.run(FAMILY)
    line = ("dedupe", "p", "--same", "name", "--keep", "lowest id", "--then-unique", "p_name")
    before = rows(server, "p", "c")
    assert yeldro(*line, "--yes", "--db", server.place).status == 0
    server.run(["INSERT INTO p VALUES (2, 'z')"])  # in the way
    assert yeldro("restore", "last", "--yes").status == 3
    indexes = {"sqlite": "PRAGMA index_list(p)", "mariadb": "SHOW INDEX FROM p"}
    query = indexes.get(server.engine, "SELECT indexname FROM pg_indexes WHERE tablename = 'p'")
    assert "p_name" in str(server.query(query))
    server.run(["DELETE FROM p WHERE id = 2"])
    back = yeldro("restore", "last", "--yes")
    assert (back.status, "The unique index p_name of p" in back.out) == (0, True), back.err
    assert (rows(server, "p", "c"), "p_name" in str(server.query(query))) == (before, False)
    told = yeldro("history", "last").out
    assert ("the unique index p_name of p" in told, told.count("p_name")) == (True, 3)


@pytest.mark.parametrize("fault", ["error", "lost"])
def test_an_error_for_a_commit_is_an_answer(
    yeldro: Yeldro, server: Server, tmp_path: Path, fault: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Only a connection that is lost while committing leaves a doubt."""
    server.run(["CREATE TABLE w (id INTEGER PRIMARY KEY)", "INSERT INTO w VALUES (1), (2), (3)"])
    if server.engine == "postgresql":
        if fault == "error":
            server.run(
                DEFERRED,
                "CREATE CONSTRAINT TRIGGER t AFTER DELETE ON w DEFERRABLE INITIALLY DEFERRED"
                " FOR EACH ROW EXECUTE FUNCTION f()",
            )
            monkeypatch.setattr(PostgresqlDatabase, "force_checks", lambda _: None)
        else:
            monkeypatch.setattr(PostgresqlDatabase, "_control", cut(PostgresqlDatabase._control))
    else:
        monkeypatch.setattr(Gate, "run_text", refuse(Gate.run_text, server.engine, fault))
    done = yeldro("delete", "w", "--where", "id < 3", "--yes", "--db", server.place)
    monkeypatch.undo()
    outcome = json.loads(record_of(tmp_path).read_text())["outcome"]
    if fault == "lost":
        assert (done.status, outcome) == (5, "in-doubt")
        return
    assert (done.status, outcome, "did not commit" in done.err) == (5, "rolled-back", True), (
        done.err
    )
    assert "not known" not in done.out
    assert not record_of(tmp_path).with_name("rows.sqlite").exists()
    assert len(rows(server, "w")[0]) == 3


DEFERRED = "CREATE FUNCTION f() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN RAISE 'no'; END $$"


def cut(control: Any) -> Any:
    begun = []

    def then(self: Any, statement: str) -> Any:
        begun.extend([statement] * statement.endswith("READ WRITE"))
        if statement == "COMMIT" and begun:
            raise DatabaseFailed("The connection to the server was lost.")
        return control(self, statement)

    return then


def refuse(run_text: Any, engine: str, fault: str) -> Any:
    """Answer the COMMIT of the run as the server would, or as the driver does where that sends
    nothing any more."""
    begun = []

    def then(self: Any, text: str, *kind: Any) -> Any:
        begun.extend([text] * (text in ("BEGIN IMMEDIATE", "START TRANSACTION READ WRITE")))
        if text != "COMMIT" or not begun:
            return run_text(self, text, *kind)
        if engine == "sqlite":
            if fault == "lost":
                run_text(self, "ROLLBACK")
            raise DatabaseFailed("The disk is full.")
        with self.translated():
            raise pymysql.err.OperationalError(
                1180 if fault == "error" else 2013, "Got error 90 during COMMIT"
            )

    return then


@pytest.mark.parametrize("format", ["text", "json"])
def test_output_that_cannot_be_encoded_decides_nothing(
    server: Server, tmp_path: Path, format: str
) -> None:
    server.run([f"CREATE TABLE {server.quoted('gräben')} (id INTEGER PRIMARY KEY)"])
    server.run([f"INSERT INTO {server.quoted('gräben')} VALUES (1), (2)"])
    line = ["delete", "gräben", "--key", "1", "--yes", "--db", server.place, "--format", format]
    environment = {**os.environ, "PYTHONIOENCODING": "ascii"}
    command = [sys.executable, "-m", "yeldro", *line]
    done = subprocess.run(command, cwd=tmp_path, env=environment, capture_output=True, text=True)
    assert (done.returncode, server.query(f"SELECT count(*) FROM {server.quoted('gräben')}")) == (
        0,
        [(1,)],
    ), done.stderr
    if format == "json":
        assert json.loads(done.stdout)["tally"][0]["table"] == "gräben"
    else:
        assert "Committed." in done.stdout


def test_whatever_fails_after_a_commit_says_that_it_was_one(
    yeldro: Yeldro, server: Server, monkeypatch: pytest.MonkeyPatch
) -> None:
    server.run(["CREATE TABLE w (id INTEGER PRIMARY KEY)", "INSERT INTO w VALUES (1), (2)"])
    monkeypatch.setattr("yeldro.cli.run_command.render_ending", lambda *_: 1 / 0)
    done = yeldro("delete", "w", "--key", "1", "--yes", "--db", server.place)
    assert (done.status, "-w ended: committed" in done.err, "rolled back" in done.err) == (
        0,
        True,
        False,
    )


def test_a_row_that_is_detached_twice_is_one_row(yeldro: Yeldro, server: Server) -> None:
    link = "FOREIGN KEY ({}) REFERENCES p (id) ON DELETE SET NULL"
    server.run(
        "CREATE TABLE p (id INTEGER PRIMARY KEY)",
        f"CREATE TABLE c (id INTEGER PRIMARY KEY, a INTEGER, b INTEGER, {link.format('a')}, {link.format('b')})",
        "INSERT INTO p VALUES (1), (2), (3)",
        "INSERT INTO c VALUES (1, 1, 2), (2, 1, NULL), (3, 3, 2), (4, 1, 1)",
    )
    line = ("p", "--where", "id < 3", "--db", server.place, "--format", "json")
    shown = yeldro("preview", *line).document
    done = yeldro("delete", *line, "--yes").document
    back = yeldro("restore", "last", "--yes", "--format", "json").document
    assert [part["rows"] for part in shown["reach"] if part["table"] == "c"] == [4]
    assert [[one["detached"], one["expected"]] for one in done["tally"] if one["table"] == "c"] == [
        [4, 4]
    ]
    assert [[one["restored"], one["expected"]] for one in back["tally"] if one["table"] == "c"] == [
        [4, 4]
    ]
    assert rows(server, "c") == [[(1, 1, 2), (2, 1, None), (3, 3, 2), (4, 1, 1)]]


STAMPED = {
    "postgresql": "CREATE FUNCTION f() RETURNS trigger LANGUAGE plpgsql AS"
    " $$ BEGIN NEW.stamp = 'new'; RETURN NEW; END $$;"
    " CREATE TRIGGER t BEFORE UPDATE ON c FOR EACH ROW EXECUTE FUNCTION f()",
    "mariadb": "CREATE TRIGGER t BEFORE UPDATE ON c FOR EACH ROW SET NEW.stamp = 'new'",
}


@on("postgresql", "mariadb")
def test_what_triggers_change_on_detached_rows_is_told(yeldro: Yeldro, server: Server) -> None:
    """An archive holds it; a restore gives back what the run itself changed."""
    server.run(
        "CREATE TABLE p (id INTEGER PRIMARY KEY)",
        "CREATE TABLE c (id INTEGER PRIMARY KEY, p INTEGER, stamp VARCHAR(9), FOREIGN KEY (p) REFERENCES p (id))",
        "INSERT INTO p VALUES (1), (2)",
        "INSERT INTO c VALUES (1, 1, 'old'), (2, 2, 'old')",
        STAMPED[server.engine],
    )
    line = ("delete p --key 1 --dependents detach --yes --db", server.place)
    stopped = yeldro(*line)
    assert (stopped.status, "--allow-trigger t" in stopped.err) == (3, True), stopped.err
    done = yeldro(*line, "--allow-trigger", "t")
    assert (done.status, "more columns of the rows in c" in done.out) == (0, True), done.err
    back = yeldro("restore", "last", "--yes")
    assert (back.status, "Rows of c are not as before the run in stamp" in back.out) == (0, True), (
        back.out + back.err
    )
    assert rows(server, "c") == [[(1, 1, "new"), (2, 2, "old")]]


@on("mariadb")
def test_ignoring_more_never_finds_less(yeldro: Yeldro, server: Server) -> None:
    server.run(
        "CREATE TABLE o (id INTEGER PRIMARY KEY, name VARCHAR(20) COLLATE utf8mb4_general_ci)",
        "INSERT INTO o VALUES (1, 'Élise'), (2, 'élise'), (3, 'Bob'), (4, 'bob'), (5, 'elise'), (6, 'Zoë')",
    )
    line = ("duplicates", "o", "--same", "name", "--db", server.place, "--format", "json")
    for more in ([], ["--ignore", "case"]):
        found = yeldro(*line, *more).document
        assert (found["groups"], found["rows"], found["left_out"]["nulls"]) == (2, 5, 0), more


def test_blank_texts_are_the_same_as_none(yeldro: Yeldro, server: Server) -> None:
    blanks = ["", " ", "\t", "\u3000"] * 12
    values = ", ".join(f"({number}, '{text}', 'n')" for number, text in enumerate(blanks, 1))
    server.run(
        "CREATE TABLE o (id INTEGER PRIMARY KEY, email VARCHAR(20), name VARCHAR(9))",
        f"INSERT INTO o VALUES {values}, (90, 'a@lark.example', 'n'), (91, 'a@lark.example', 'm'), (92, NULL, 'o')",
    )
    line = ("o", "--same", "email", "--keep", "lowest id", "--db", server.place)
    shown = yeldro("duplicates", *line).out
    told = "(1 row with NULL and 48 rows with a blank text there equal nothing, and are left out; --nulls same"
    assert (told in shown, "1 group" in shown) == (True, True), shown
    document = yeldro("duplicates", *line, "--nulls", "same", "--format", "json").document
    assert (document["left_out"], document["groups"] > 1) == ({"nulls": 0, "blanks": 0}, True)
    large = yeldro(
        "duplicates", "o", "--same", "name", "--db", server.place, "--format", "json"
    ).document
    assert [caution["name"] for caution in large["cautions"]] == ["large-group"]
    stopped = yeldro("dedupe", *line, "--then-unique", "o_email", "--yes")
    is_told = "48 rows have a blank text in email" in stopped.err
    assert (stopped.status, is_told) == ((3, True) if server.engine == "mariadb" else (0, False))
    assert yeldro("dedupe", *line, "--yes").status == 0
    assert len(rows(server, "o")[0]) == 50


KEYLESS = [
    "CREATE TABLE p (id INTEGER PRIMARY KEY)",
    "CREATE TABLE k (a VARCHAR(20), b TEXT, f FLOAT, p INTEGER, FOREIGN KEY (p) REFERENCES p (id) ON DELETE CASCADE)",
    "INSERT INTO p VALUES (1), (2), (3)",
    "INSERT INTO k VALUES ('x', 'y', 0.1, 1), ('x', 'y', 0.1, 1), ('X', 'y', 0.1, 1), ('z', NULL, NULL, 2),"
    " (NULL, NULL, NULL, 3), (NULL, NULL, NULL, 3), (NULL, NULL, NULL, NULL), ('tab\t', '\\\\', 16777216, NULL)",
    "CREATE TABLE t (a VARCHAR(20), b TEXT)",
    "INSERT INTO t VALUES ('a', 'b'), ('a', 'b'), ('a', 'c'), (NULL, NULL), (NULL, NULL)",
]


@pytest.mark.parametrize(
    "line",
    [
        ["delete", "k", "--where", "a = 'x'"],
        ["delete", "k", "--where", "a IS NULL AND p = 3"],
        ["delete", "k", "--where", "f > 1"],
        ["delete", "p", "--where", "id IN (1, 3)"],
        ["delete", "k", "--orphans", "--all-rows"],
        ["delete", "k", "--found-in", "p"],
        ["dedupe", "k", "--same", "all"],
        ["dedupe", "t", "--same", "all"],
        ["dedupe", "t", "--same", "a", "--keep", "highest b"],
    ],
    ids=" ".join,
)
def test_rows_without_a_key(yeldro: Yeldro, server: Server, line: list[str]) -> None:
    server.run(KEYLESS)
    if "--orphans" in line:
        assert "No row matches" in yeldro(*line, "--yes", "--db", server.place).out
        return
    there_and_back(yeldro, server, ("p", "k", "t"), *line)


@on("mariadb")
def test_what_cannot_be_done_without_a_key(yeldro: Yeldro, server: Server) -> None:
    server.run(KEYLESS)
    before = rows(server, "p", "k", "t")
    for line, said in (
        (["k", "--order-by", "a", "--limit", "2"], "--limit could not say"),
        (
            ["p", "--key", "1", "--dependents", "k=detach"],
            "would be detached, but nothing tells them apart",
        ),
    ):
        refused = yeldro("delete", *line, "--yes", "--db", server.place)
        assert (refused.status, said in refused.err) == (2, True), refused.err
    assert rows(server, "p", "k", "t") == before


@on("mariadb")
def test_ending_the_client_ends_its_statement(server: Server, tmp_path: Path) -> None:
    server.run(["CREATE TABLE n AS SELECT seq FROM seq_1_to_3000"])
    slow = (
        "(SELECT count(*) FROM n AS a, n AS b, n AS c WHERE a.seq + b.seq + c.seq + n.seq < 0) = 0"
    )
    command = [
        sys.executable,
        "-m",
        "yeldro",
        "preview",
        "n",
        "--where",
        slow,
        "--db",
        server.place,
    ]
    process = subprocess.Popen(
        command, cwd=tmp_path, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
    )
    busy = "SELECT count(*) FROM information_schema.PROCESSLIST WHERE DB = DATABASE() AND INFO LIKE '%a.seq + b.seq%'"
    busy += " AND INFO NOT LIKE '%PROCESSLIST%'"
    while server.query(busy) == [(0,)] and process.poll() is None:
        time.sleep(0.1)
    process.terminate()
    assert process.wait(timeout=20) == 130
    for _ in range(100):
        if server.query(busy) == [(0,)]:
            return
        time.sleep(0.1)
    raise AssertionError("the statement goes on")


@on("sqlite")
def test_columns_that_hold_other_things_than_they_say(yeldro: Yeldro, server: Server) -> None:
    server.run(
        "CREATE TABLE m (id INTEGER PRIMARY KEY, n INTEGER, d DATE, s TEXT)",
        "INSERT INTO m VALUES (1, 5, '2020-01-01', 'a'), (2, 50, '31/12/2020', ''), (3, 'unknown', '', ' '),"
        " (4, 'n/a', '2021-01-01 10:00', '7'), (5, 7, 20200101, '10')",
    )

    def cautions(where: str) -> dict[str, str]:
        found = yeldro(
            "preview", "m", "--where", where, "--db", server.place, "--format", "json"
        ).document
        return {one["name"]: one["message"] for one in found["cautions"]}

    assert (
        "2 rows of m hold a text, and any number is less than any text: 2 of them"
        in cautions("n > 10")["mixed-types"]
    )
    assert cautions("n = 'unknown'") == {}
    assert (
        "2 rows of m hold no day in the form 2024-01-31"
        in cautions("d < '2020-06-01'")["mixed-types"]
    )
    assert "letter by letter" in cautions("s > 8")["text-as-number"]
    assert "mixed-types" not in cautions("id > 10")
    assert "No row of" not in cautions("n = 'unknown'")
    shown = yeldro("survey", "m", "--db", server.place).out
    for line in (
        "n       a text",
        "d       a text that is not a day",
        "d       a number",
        "s       a blank text",
    ):
        assert line in shown, shown


OURS = [
    "yeldro_walk",
    "yeldro_other",
    "yeldro_rows",
    "yeldro_same",
    "yeldro_groups",
    "yeldro_kept",
    "yeldro_parent",
]


@pytest.mark.parametrize("name", OURS)
def test_tables_with_names_that_we_use_ourselves(yeldro: Yeldro, server: Server, name: str) -> None:
    server.run(
        f"CREATE TABLE {name} (id INTEGER PRIMARY KEY, c0 INTEGER, up INTEGER, n VARCHAR(9),"
        f" FOREIGN KEY (up) REFERENCES {name} (id) ON DELETE CASCADE)",
        f"INSERT INTO {name} VALUES (1, 9, NULL, 'a'), (2, 9, 1, 'a'), (3, 9, 2, 'b'), (4, 9, NULL, 'b')",
        f"CREATE TABLE other (id INTEGER PRIMARY KEY, w INTEGER, FOREIGN KEY (w) REFERENCES {name} (id))",
        "INSERT INTO other VALUES (1, 2), (2, 4)",
    )
    tables = (name, "other")
    all_of_them = ["--dependents", "delete"]
    there_and_back(
        yeldro, server, tables, "delete", name, "--where", f"{name}.id = 1 AND c0 = 9", *all_of_them
    )
    there_and_back(yeldro, server, tables, "delete", "other", "--found-in", name, "--all-rows")
    there_and_back(
        yeldro, server, tables, "dedupe", name, "--same", "n", "--keep", "lowest id", "--fill"
    )
    assert (
        "No row matches" in yeldro("delete", name, "--orphans", "--yes", "--db", server.place).out
    )


CLEARED = [
    (
        "up INTEGER, top INTEGER, CHECK ((up IS NULL) = (top = 1))",
        "(1, NULL, 1), (2, 1, 0), (3, 2, 0), (4, 3, 0)",
    ),
    ("up INTEGER NOT NULL UNIQUE, top INTEGER", "(1, 2, 0), (2, 1, 0), (5, 5, 0)"),
]


@pytest.mark.parametrize(("columns", "values"), CLEARED)
def test_links_that_cannot_be_cleared(
    yeldro: Yeldro, server: Server, columns: str, values: str
) -> None:
    """A row that goes must be as the schema wants it until it is gone."""
    free = ["SET foreign_key_checks = 0"] if server.engine == "mariadb" else []
    key = "FOREIGN KEY (up) REFERENCES r (id) ON DELETE CASCADE"
    made = f"CREATE TABLE r (id INTEGER PRIMARY KEY, {columns}, {key})"
    server.run([*free, made, f"INSERT INTO r VALUES {values}"])
    options = ["--break-cycles"] if server.engine == "mariadb" and "UNIQUE" in columns else []
    there_and_back(yeldro, server, ["r"], "delete", "r", "--all-rows", *options)


def test_a_cycle_of_tables_whose_constraints_need_the_reference(
    yeldro: Yeldro, server: Server
) -> None:
    """`gates.main` could be NULL, so the cycle would be opened there, but a constraint says no."""
    server.run(
        "CREATE TABLE locks (id INTEGER PRIMARY KEY, gate INTEGER NOT NULL)"
        if server.engine != "sqlite"
        else "CREATE TABLE locks (id INTEGER PRIMARY KEY, gate INTEGER NOT NULL"
        " REFERENCES gates (id) ON DELETE CASCADE)",
        "CREATE TABLE gates (id INTEGER PRIMARY KEY, main INTEGER, state INTEGER,"
        " CHECK (main IS NOT NULL OR state = 0),"
        " FOREIGN KEY (main) REFERENCES locks (id) ON DELETE CASCADE)",
        "INSERT INTO gates VALUES (1, NULL, 0), (2, NULL, 0)",
        "INSERT INTO locks VALUES (5, 1), (6, 2), (7, 2)",
        "UPDATE gates SET main = id + 4, state = 1",
    )
    if server.engine != "sqlite":
        server.run(
            "ALTER TABLE locks ADD FOREIGN KEY (gate) REFERENCES gates (id) ON DELETE CASCADE"
        )
    options = ["--break-cycles"] if server.engine == "mariadb" else []
    there_and_back(yeldro, server, ("gates", "locks"), "delete", "gates", "--key", "2", *options)


SPECIAL_INDEXES = [
    ("sqlite", "CREATE UNIQUE INDEX one ON m (p) WHERE state = 'on'"),
    ("sqlite", "CREATE UNIQUE INDEX one ON m (p, lower(tag))"),
    ("sqlite", "CREATE UNIQUE INDEX one ON m (p, tag COLLATE NOCASE DESC)"),
    ("postgresql", "CREATE UNIQUE INDEX one ON m (p) WHERE state = 'on'"),
    ("postgresql", "CREATE UNIQUE INDEX one ON m (p, lower(tag))"),
    ("postgresql", "CREATE UNIQUE INDEX one ON m ((p * 2), lower(tag)) WHERE state = 'on'"),
    ("postgresql", "CREATE UNIQUE INDEX one ON m (p, none) NULLS NOT DISTINCT WHERE state = 'on'"),
    ("postgresql", "CREATE UNIQUE INDEX one ON m (p, state, none) NULLS NOT DISTINCT"),
    ("postgresql", "ALTER TABLE m ADD UNIQUE (p, state) DEFERRABLE INITIALLY DEFERRED"),
    ("mariadb", "CREATE UNIQUE INDEX one ON m (p, tag(3))"),
]


@pytest.mark.parametrize(("any_server", "index"), SPECIAL_INDEXES, indirect=["any_server"])
def test_a_special_unique_index_is_looked_at_before_a_merge(
    yeldro: Yeldro, server: Server, index: str
) -> None:
    """Moved to the row that is kept, rows 1 and 2 are alike for the index; row 3 is like neither,
    row 4 has no twin."""
    server.run(
        "CREATE TABLE p (id INTEGER PRIMARY KEY, name VARCHAR(9))",
        "CREATE TABLE m (id INTEGER PRIMARY KEY, p INTEGER NOT NULL, state VARCHAR(9), tag VARCHAR(9),"
        " none VARCHAR(9), FOREIGN KEY (p) REFERENCES p (id))",
        "INSERT INTO p VALUES (1, 'fen'), (2, 'fen'), (3, 'mere'), (4, 'mere')",
        "INSERT INTO m VALUES (1, 1, 'on', 'reed', NULL), (2, 2, 'on', 'REEd', NULL), (4, 4, 'on', 'reed', NULL)",
        "INSERT INTO m VALUES (3, 2, 'off', 'sedge', NULL)",
        index,
    )
    line = ["dedupe", "p", "--same", "name", "--keep", "lowest id", "--yes", "--db", server.place]
    before = rows(server, "p", "m")
    stopped = yeldro(*line)
    assert (stopped.status, "they would have the same" in stopped.err) == (3, True), (
        stopped.out + stopped.err
    )
    assert rows(server, "p", "m") == before
    there_and_back(yeldro, server, ("p", "m"), *line[:-3], "--dependents", "m=delete")
    assert yeldro(*line, "--dependents", "m=delete").status == 0
    assert [(one[0], one[1]) for one in rows(server, "m")[0]] == [(1, 1), (3, 1), (4, 3)]


@pytest.mark.parametrize(
    ("type", "alike"), [("LONGTEXT", 3), ("MEDIUMTEXT", 3), ("LONGBLOB", 2), ("JSON", 2)]
)
@on("mariadb")
def test_long_texts_are_compared_to_their_end(
    yeldro: Yeldro, server: Server, type: str, alike: int
) -> None:
    """Texts are alike where their collation says so; JSON and bytes are what they are."""
    server.run(
        f"CREATE TABLE p (id INTEGER PRIMARY KEY, note {type})", "SET max_statement_time = 60"
    )
    texts = [
        "REPEAT('a', 70000), '1",
        "REPEAT('a', 70000), '2",
        "REPEAT('A', 70000), '1",
        "REPEAT('a', 70000), '1",
    ]
    server.run(
        [
            f"INSERT INTO p VALUES ({place}, CONCAT('\"', {text}\"'))"
            for place, text in enumerate(texts)
        ]
    )
    found = yeldro(
        "duplicates", "p", "--same", "note", "--db", server.place, "--format", "json"
    ).document
    assert (found["groups"], found["rows"]) == (1, alike)


@pytest.fixture
def newest(server: Server) -> Server:
    if int(server.query("SHOW server_version_num")[0][0]) < 180000:
        pytest.skip("Only PostgreSQL 18 and later know this; YELDRO_TEST_POSTGRESQL may name one.")
    return server


@on("postgresql")
def test_constraints_that_promise_nothing(yeldro: Yeldro, newest: Server) -> None:
    """NOT NULL that is NOT VALID makes no key; a reference that is NOT ENFORCED may have orphans."""
    newest.run(
        "CREATE TABLE p (id INTEGER PRIMARY KEY, name TEXT UNIQUE)",
        "CREATE TABLE c (id INTEGER, p INTEGER REFERENCES p NOT ENFORCED, UNIQUE (id))",
        "INSERT INTO c VALUES (NULL, 1), (4, 7), (3, 1)",
        "ALTER TABLE c ADD CONSTRAINT filled NOT NULL id NOT VALID",
        "INSERT INTO p VALUES (1, 'a'), (2, 'b')",
    )
    survey = yeldro("survey", "c", "--db", newest.place, "--format", "json").document
    assert "Its checks are switched off" in json.dumps(survey)
    there_and_back(yeldro, newest, ("p", "c"), "delete", "c", "--orphans")
    shown = yeldro("preview", "p", "--where", "id = 1", "--db", newest.place)
    assert (shown.status, "c.p -> p.id" in shown.out) == (3, True), shown.out


@on("postgresql")
def test_references_by_period_are_refused_by_name(yeldro: Yeldro, newest: Server) -> None:
    server = newest
    server.run(
        "CREATE EXTENSION IF NOT EXISTS btree_gist",
        "CREATE TABLE p (id INTEGER, era DATERANGE, PRIMARY KEY (id, era WITHOUT OVERLAPS))",
        "CREATE TABLE c (id INTEGER PRIMARY KEY, p INTEGER, era DATERANGE,"
        " FOREIGN KEY (p, PERIOD era) REFERENCES p (id, PERIOD era))",
        "INSERT INTO p VALUES (1, '[2026-01-01,2026-06-01)'), (1, '[2026-06-01,2027-01-01)'), (2, '[2026-01-01,)')",
        "INSERT INTO c VALUES (1, 1, '[2026-05-01,2026-07-01)'), (2, NULL, NULL)",
    )
    before = rows(server, "p", "c")
    for line in (["c", "--orphans"], ["p", "--where", "id = 1"]):
        stopped = yeldro("delete", *line, "--yes", "--db", server.place)
        assert (stopped.status, "compares periods" in stopped.out + stopped.err) == (3, True), (
            stopped.out + stopped.err
        )
    assert rows(server, "p", "c") == before
    there_and_back(yeldro, server, ("p", "c"), "delete", "c", "--where", "id = 1")


def test_a_parameter_in_one_part_of_several(yeldro: Yeldro, server: Server) -> None:
    """The parts are counted as they were written."""
    server.run(
        "CREATE TABLE w (id INTEGER PRIMARY KEY, name VARCHAR(9), code VARCHAR(9))",
        "INSERT INTO w VALUES (1, 'n1', 'x'), (2, 'n1', 'y'), (3, 'n2', '50%')",
    )
    line = ("preview", "w", "--db", server.place, "--format", "json")
    for where, value, parts in (
        ("name = :v AND code <> 'x'", "v=n1", [2, 1]),
        ("code LIKE '%0%' AND name = :v AND id % 2 = 1", "v=n2", [1, 1, 1]),
    ):
        shown = yeldro(*line, "--where", where, "-p", value)
        assert shown.status == 0, shown.err
        assert [one["rows"] for one in json.loads(shown.out)["parts"]] == parts


NUMBER = "00000000-0000-0000-0000-000000000001"
# A value of each type, and its text.
VALUES = {
    "boolean": ("true", "true"), "uuid": (f"'{NUMBER}'", NUMBER), "bytea": (r"'\x00ff'", "X'00FF'"),
    "jsonb": ("""'{"a": [1, null]}'""", '{"a": [1, null]}'), "point": ("'(1,2)'", "(1,2)"),
    "date": ("'infinity'", "infinity"), "timestamp": ("'0044-03-15 12:00 BC'", "0044-03-15 12:00:00 BC"),
    "interval": ("'9000000 hours'", "9000000:00:00"), "text[]": ("""'{"a b",NULL}'""", '{"a b",NULL}'),
    "xml": ("'<a/>'", "<a/>"),
}  # fmt: skip


@on("postgresql")
@pytest.mark.parametrize("type", VALUES)
def test_every_type_is_shown_as_the_database_writes_it(
    yeldro: Yeldro, server: Server, type: str
) -> None:
    written, text = VALUES[type]
    server.run(
        f"CREATE TABLE w (id INTEGER PRIMARY KEY, v {type})",
        f"INSERT INTO w VALUES (1, {written}), (2, NULL)",
    )
    for line in (["survey", "w"], ["duplicates", "w"], ["preview", "w", "--where", "id = 1"]):
        done = yeldro(*line, "--db", server.place)
        assert done.status == 0, done.err
        assert text in done.out or line[0] == "duplicates", done.out
    sheet = yeldro("preview", "w", "--where", "id = 1", "--format", "csv", "--db", server.place).out
    plain = "00ff" if type == "bytea" else text
    assert list(csv.reader(sheet.splitlines()))[1] == ["1", plain]


@on("postgresql")
@pytest.mark.parametrize(
    ("parent", "child"),
    [
        ("INTEGER", "of_p"),
        ("far.citext", "far.citext DEFAULT 7"),
        ("NUMERIC(4, 1)", "NUMERIC(4, 1) DEFAULT 6.96"),
    ],
)
def test_a_default_is_what_stands_in_the_column(
    yeldro: Yeldro, server: Server, parent: str, child: str
) -> None:
    """Of a domain, of a type that compares with no number, and one that is rounded."""
    server.run(
        "CREATE SCHEMA IF NOT EXISTS far",
        "CREATE EXTENSION IF NOT EXISTS citext SCHEMA far",
        f"CREATE TABLE p (id {parent} PRIMARY KEY)",
        "CREATE DOMAIN of_p AS INTEGER DEFAULT 7",
        f"CREATE TABLE c (id INTEGER PRIMARY KEY, p {child} REFERENCES p ON DELETE SET DEFAULT)",
        "INSERT INTO p VALUES ('1'), ('7')",
        "INSERT INTO c VALUES (1, '1'), (2, '7')",
    )
    there_and_back(yeldro, server, ("p", "c"), "delete", "p", "--key", "1")
    assert yeldro("delete", "p", "--key", "1", "--yes", "--db", server.place).status == 0
    assert [float(aim) for _, aim in rows(server, "c")[0]] == [7, 7]


@on("sqlite")
def test_a_seal_holds_when_a_column_comes(yeldro: Yeldro, server: Server) -> None:
    server.run(
        "CREATE TABLE w (id INT PRIMARY KEY, v TEXT)",
        "INSERT INTO w VALUES (1, 'a'), (2, 'b'), (3, 'c')",
    )
    line = ("preview", "w", "--where", "id < 3", "--db", server.place, "--save", "w.toml", "--seal")
    assert yeldro(*line).status == 0
    server.run(["ALTER TABLE w ADD COLUMN more TEXT"])
    done = yeldro("run", "w.toml", "--yes", "--db", server.place)
    assert (done.status, rows(server, "w")) == (0, [[(3, "c", None)]]), done.out + done.err


# Numbers, and how each engine's own client prints them.
FLOATS = ["0.1", "100", "1e15", "1e14", "0.30000000000000004", "2.5e-8", "123456789.125", "-0.5"]


def test_floats_are_shown_as_the_database_writes_them(yeldro: Yeldro, server: Server) -> None:
    kind = {"postgresql": "DOUBLE PRECISION", "mariadb": "DOUBLE", "sqlite": "REAL"}[server.engine]
    cells = ", ".join(f"({n}, {one})" for n, one in enumerate(FLOATS))
    server.run(
        f"CREATE TABLE w (id INTEGER PRIMARY KEY, v {kind})", f"INSERT INTO w VALUES {cells}"
    )
    text = {"postgresql": "v::text", "mariadb": "CONCAT(v)", "sqlite": "CAST(v AS TEXT)"}
    written = [row[0] for row in server.query(f"SELECT {text[server.engine]} FROM w ORDER BY id")]
    shown = yeldro("preview", "w", "--all-rows").out
    assert [line.split()[1] for line in shown.split("\n\n")[1].splitlines()[1:]] == written
    told = yeldro("preview", "w", "--all-rows", "--format", "json").document
    assert [row["v"] for row in told["sample"]] == list(map(float, FLOATS))
