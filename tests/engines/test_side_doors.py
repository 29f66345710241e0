"""Rows that go, come or stay through a side door, and tables that cannot be trusted, on the
servers."""

from __future__ import annotations

from typing import Any

import pytest

from tests.property.test_laws import Yes
from tests.servers import Server
from yeldro.core.reach.request import Request
from yeldro.core.reach.rules import Rule, Rules
from yeldro.core.run.outcome import RunResult
from yeldro.core.selection.selection import Asked
from yeldro.errors import DatabaseFailed, Refused
from yeldro.usecases import run as running
from yeldro.usecases.steps import Deletion

TABLES = [
    "CREATE TABLE weirs (id INTEGER PRIMARY KEY, name VARCHAR(20), twin_id INTEGER, depth FLOAT)",
    "CREATE TABLE gates (id INTEGER PRIMARY KEY, weir_id INTEGER, CONSTRAINT of_weir FOREIGN KEY (weir_id)"
    " REFERENCES weirs (id) ON DELETE CASCADE)",
    "CREATE TABLE notes (id INTEGER PRIMARY KEY, weir INTEGER)",
    "INSERT INTO weirs VALUES (1, 'a', NULL, 0.5), (2, 'b', 1, 1.5), (3, 'c', NULL, 2.5)",
    "INSERT INTO gates VALUES (1, 1), (2, 1), (3, 2), (4, 3)",
    "INSERT INTO notes VALUES (1, 1), (2, 2), (3, 3)",
]


def delete(
    server: Server, where: str = "id < 3", rules: Rules | None = None, table: str = "weirs"
) -> RunResult:
    database = server.open(wait=1)
    try:
        request = Request(Asked(table, where=(where,)), rules or Rules())
        return running.delete(database, request, running.Manner(ask_first=False), Yes())
    finally:
        database.close()


def image(server: Server) -> dict[str, list[tuple[Any, ...]]]:
    return {
        name: sorted(server.query(f"SELECT * FROM {name}"), key=repr)
        for name in ("weirs", "gates", "notes")
    }


def function(body: str, returns: str = "OLD") -> str:
    return (
        f"CREATE FUNCTION f() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN {body} RETURN {returns}; END $$;"
        "CREATE TRIGGER t {} FOR EACH ROW EXECUTE FUNCTION f()"
    )


ELSEWHERE = "DELETE FROM notes WHERE weir = OLD.id;"
POSTGRESQL = [
    (function(ELSEWHERE).format("AFTER DELETE ON weirs"), 3, "the trigger t on weirs"),
    (function("UPDATE notes SET weir = 9;").format("AFTER DELETE ON gates"), 3, "the trigger t on gates"),
    (function("", "NULL").format("BEFORE DELETE ON gates"), 3, "gates: 3 rows"),
    (
        "CREATE TABLE alarms (id INT PRIMARY KEY, weir_id INT REFERENCES weirs ON DELETE CASCADE);"
        "INSERT INTO alarms VALUES (1, 1);"
        + function("UPDATE gates SET id = id + 10;").format("AFTER DELETE ON alarms"),
        3,
        "gates: 3 rows were to be deleted, 0 are gone",
    ),
    (function("INSERT INTO weirs (id) VALUES (OLD.id);").format("AFTER DELETE ON weirs"), 3, "weirs: 2 rows"),
    (function("INSERT INTO notes VALUES (OLD.id + 90);").format("AFTER DELETE ON weirs"), 0, ""),
    (function("RAISE 'secret %', OLD.name;").format("BEFORE DELETE ON weirs"), 5, "an error of its own"),
    ("CREATE RULE t AS ON DELETE TO gates DO INSTEAD NOTHING", 3, "gates: 3 rows"),
    ("CREATE RULE t AS ON DELETE TO weirs DO ALSO DELETE FROM notes WHERE weir = OLD.id", 3, "notes"),
    ("ALTER TABLE gates DISABLE TRIGGER ALL", 0, ""),
    (function("INSERT INTO gates VALUES (OLD.id + 80, OLD.id);").format(
     "AFTER DELETE ON weirs FOR EACH ROW EXECUTE FUNCTION f(); ALTER TABLE weirs DISABLE TRIGGER USER;"
     " ALTER TABLE gates DISABLE TRIGGER ALL; ALTER TABLE weirs ENABLE TRIGGER USER; CREATE TRIGGER u"
     " AFTER UPDATE ON weirs"), 3, "reference a row that is gone"),
    (function("INSERT INTO gates VALUES (OLD.id + 80, OLD.id);").format(
     "AFTER DELETE ON weirs FOR EACH ROW EXECUTE FUNCTION f(); DO 'DECLARE n text; BEGIN FOR n IN SELECT tgname"
     " FROM pg_trigger WHERE tgrelid = ''gates''::regclass LOOP EXECUTE"
     " format(''ALTER TABLE gates ENABLE REPLICA TRIGGER %I'', n); END LOOP; END';"
     " CREATE TRIGGER u AFTER UPDATE ON weirs"), 3, "reference a row that is gone"),
]  # fmt: skip
MARIADB = [
    (f"CREATE TRIGGER t AFTER DELETE ON weirs FOR EACH ROW {ELSEWHERE[:-1]}", 3,
     "the trigger t, which deletes from notes"),
    ("CREATE TRIGGER t AFTER DELETE ON gates FOR EACH ROW UPDATE notes SET weir = 9", 3, "updates notes"),
    ("CREATE TRIGGER t AFTER DELETE ON weirs FOR EACH ROW INSERT INTO notes VALUES (OLD.id + 90, 1)", 0, ""),
    ("CREATE TRIGGER t BEFORE DELETE ON weirs FOR EACH ROW SIGNAL SQLSTATE '45000' SET MESSAGE_TEXT = 'secret'", 5,
     "own"),
]  # fmt: skip
DOORS = [("postgresql", *case) for case in POSTGRESQL] + [("mariadb", *case) for case in MARIADB]


@pytest.mark.parametrize(
    ("engine", "door", "status", "said"), DOORS, ids=lambda value: str(value)[:70]
)
def test_a_side_door(server: Server, engine: str, door: str, status: int, said: str) -> None:
    if server.engine != engine:
        return
    server.run([*TABLES, *_parts(door)])
    before = image(server)
    result = delete(server)
    assert (result.status, said in result.reason) == (status, True), result.reason
    assert "secret" not in result.reason
    assert (image(server) == before) == (status != 0)
    if "90" in door:
        assert result.tally is not None
        assert {line.table.label: line.inserted_by_triggers for line in result.tally.lines}[
            "notes"
        ] == 2


def _parts(door: str) -> list[str]:
    """A function and its trigger are two statements."""
    head, mark, tail = door.partition("$$;")
    return [head + "$$", tail] if mark else [door]


REFUSED = [
    (
        "mariadb",
        ["CREATE TABLE loose (id INTEGER PRIMARY KEY, weir_id INTEGER) ENGINE=MyISAM"],
        "MyISAM cannot roll back",
    ),
    (
        "mariadb",
        ["CREATE TABLE loose (id INTEGER PRIMARY KEY) WITH SYSTEM VERSIONING"],
        "system-versioned",
    ),
    (
        "postgresql",
        ["CREATE TABLE loose (id INTEGER)", "CREATE TABLE kid () INHERITS (loose)"],
        "inherit from it",
    ),
]


@pytest.mark.parametrize(("engine", "tables", "reason"), REFUSED, ids=str)
def test_a_table_that_cannot_be_trusted_is_refused(
    server: Server, engine: str, tables: list[str], reason: str
) -> None:
    if server.engine == engine:
        server.run([*tables, "INSERT INTO loose (id) VALUES (1), (2)"])
        with pytest.raises(Refused, match=reason):
            delete(server, "id = 1", table="loose")
        assert len(server.query("SELECT * FROM loose")) == 2


def test_a_reference_to_columns_that_are_not_unique_stops(server: Server) -> None:
    if server.engine != "mariadb":
        return
    server.run(
        "CREATE TABLE kinds (id INTEGER PRIMARY KEY, code INTEGER, KEY (code))",
        "CREATE TABLE uses (id INTEGER PRIMARY KEY, code INTEGER, FOREIGN KEY (code) REFERENCES kinds (code)"
        " ON DELETE CASCADE)",
        "INSERT INTO kinds VALUES (1, 7), (2, 7)",
        "INSERT INTO uses VALUES (1, 7)",
    )
    result = delete(server, "id = 1", table="kinds")
    assert (result.status, "not unique" in result.reason) == (3, True)


def test_row_security_and_schemas_that_the_role_cannot_read_fail_the_run(server: Server) -> None:
    if server.engine != "postgresql":
        return
    role = "yeldro_test_role"
    server.run(
        *TABLES,
        f"DO $$ BEGIN CREATE ROLE {role} LOGIN; EXCEPTION WHEN duplicate_object THEN NULL; END $$",
        f"GRANT ALL ON ALL TABLES IN SCHEMA public TO {role}",
        f"GRANT USAGE ON SCHEMA public TO {role}",
        "ALTER TABLE weirs ENABLE ROW LEVEL SECURITY",
        "CREATE POLICY p ON weirs USING (id <> 2)",
    )
    as_role = Server("postgresql", server.place.replace("postgres@", f"{role}@"), '"')
    before = image(server)
    with pytest.raises(DatabaseFailed, match="row-level security"):
        delete(as_role)
    server.run(
        "ALTER TABLE weirs DISABLE ROW LEVEL SECURITY",
        "CREATE SCHEMA IF NOT EXISTS far",
        "CREATE TABLE far.kin (id INTEGER PRIMARY KEY, weir_id INTEGER REFERENCES weirs (id) ON DELETE CASCADE)",
        "INSERT INTO far.kin VALUES (1, 1)",
    )
    unreadable = delete(as_role)
    assert (unreadable.status, "far" in unreadable.reason) == (5, True)
    assert image(server) == before
    seen = delete(server)
    assert seen.preview is not None
    assert "far.kin" in [part.table.label for part in seen.preview.reach.parts]
    server.run(["DROP SCHEMA far CASCADE", f"DROP OWNED BY {role}", f"DROP ROLE {role}"])


def test_partitions_are_one_table(server: Server) -> None:
    if server.engine != "postgresql":
        return
    server.run(
        "CREATE TABLE spans (id INTEGER, era INTEGER, PRIMARY KEY (id, era)) PARTITION BY RANGE (era)",
        "CREATE TABLE spans_old PARTITION OF spans FOR VALUES FROM (0) TO (10)",
        "CREATE TABLE spans_new PARTITION OF spans FOR VALUES FROM (10) TO (20)",
        "CREATE TABLE marks (id INTEGER, era INTEGER, span INTEGER, FOREIGN KEY (span, era)"
        " REFERENCES spans (id, era) ON DELETE CASCADE) PARTITION BY RANGE (era)",
        "CREATE TABLE marks_old PARTITION OF marks FOR VALUES FROM (0) TO (10)",
        "CREATE TABLE marks_new PARTITION OF marks FOR VALUES FROM (10) TO (20)",
        "INSERT INTO spans VALUES (1, 5), (1, 15), (2, 15)",
        "INSERT INTO marks VALUES (1, 5, 1), (2, 15, 1), (3, 15, 2)",
    )
    result = delete(server, "id = 1", table="spans")
    assert result.status == 0, result.reason
    assert result.tally is not None
    assert [(line.table.label, line.deleted) for line in result.tally.lines] == [
        ("marks", 2),
        ("spans", 2),
    ]
    result = delete(server, "id = 2", table="spans_new")
    assert result.status == 0, result.reason
    assert server.query("SELECT count(*) FROM marks") == [(0,)]


@pytest.mark.parametrize(
    ("link", "rule"), [("INTEGER", "CASCADE"), ("INTEGER NOT NULL", "NO ACTION")]
)
def test_a_tree_of_many_levels(server: Server, link: str, rule: str) -> None:
    depth = 100_000
    reference = f"FOREIGN KEY (into_id) REFERENCES reaches (id) ON DELETE {rule}"
    server.run([f"CREATE TABLE reaches (id INTEGER PRIMARY KEY, into_id {link}, {reference})"])
    server.run(["CREATE INDEX reaches_into ON reaches (into_id)"])
    rows = [f"({n}, {max(n - 1, 0)})" for n in range(depth)]
    server.run(
        [
            f"INSERT INTO reaches VALUES {', '.join(rows[at : at + 5000])}"
            for at in range(0, depth, 5000)
        ]
    )
    result = delete(server, "id = 100", Rules(Rule.DELETE), table="reaches")
    assert result.status == 0, result.reason
    assert server.query("SELECT count(*) FROM reaches") == [(100,)]


@pytest.mark.parametrize("allowed", [False, True])
def test_a_cycle_without_a_column_that_may_be_null(server: Server, allowed: bool) -> None:
    if server.engine == "sqlite":
        return
    server.run(
        "CREATE TABLE p (id INTEGER PRIMARY KEY, c INTEGER NOT NULL)",
        "CREATE TABLE c (id INTEGER PRIMARY KEY, p INTEGER NOT NULL, s INTEGER NOT NULL)",
        "INSERT INTO p VALUES (1, 1), (2, 2)",
        "INSERT INTO c VALUES (1, 1, 1), (2, 2, 2)",
        "ALTER TABLE p ADD CONSTRAINT l1 FOREIGN KEY (c) REFERENCES c (id)",
        "ALTER TABLE c ADD CONSTRAINT l2 FOREIGN KEY (p) REFERENCES p (id)",
        "ALTER TABLE c ADD CONSTRAINT l3 FOREIGN KEY (s) REFERENCES c (id)",
    )
    database = server.open()
    steps = [(2, allowed), (1, True)]  # what one step may do the other may not
    requests = [
        Request(Asked("p", where=(f"id = {n}",)), Rules(Rule.DELETE, breaks_cycles=may))
        for n, may in steps
    ]
    jobs = [
        Deletion(database, request, f"step {place}") for place, request in enumerate(requests, 1)
    ]
    result = running.run(database, jobs, running.Manner(ask_first=False), Yes())
    database.close()
    possible = allowed or server.engine == "postgresql"
    assert (result.status == 0) == possible, result.reason
    assert possible or ("break_cycles = true" in result.reason and "step 1" in result.reason)
    assert server.query("SELECT id FROM c") == ([] if possible else [(1,), (2,)])
