"""Rows that stay: what a trigger, or a reference, changes of them beyond what was asked for."""

from __future__ import annotations

import shlex

import pytest

from tests.conftest import Yeldro
from tests.servers import Server, rows

TABLES = [
    "CREATE TABLE weirs (id INTEGER PRIMARY KEY, a VARCHAR(9), b VARCHAR(9))",
    "CREATE TABLE gates (id INTEGER PRIMARY KEY, a VARCHAR(9), weir_id INTEGER, "
    "FOREIGN KEY (weir_id) REFERENCES weirs (id) ON DELETE SET NULL)",
    *[f"INSERT INTO weirs VALUES ({n}, 'a{(n + 1) // 2}', 'b{n}')" for n in range(1, 7)],
    *[f"INSERT INTO gates VALUES ({n}, 'a{n}', {n})" for n in range(1, 7)],
]
TRIGGER = {
    "sqlite": "CREATE TRIGGER t AFTER UPDATE ON {0} WHEN NEW.a IS NOT 'LOST' BEGIN "
    "UPDATE {0} SET a = 'LOST' WHERE id = NEW.id; END",
    "postgresql": "CREATE FUNCTION f() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN "
    "NEW.a = 'LOST'; RETURN NEW; END $$; CREATE TRIGGER t BEFORE UPDATE ON {0} FOR EACH ROW "
    "EXECUTE FUNCTION f()",
    "mariadb": "CREATE TRIGGER t BEFORE UPDATE ON {0} FOR EACH ROW SET NEW.a = 'LOST'",
}
HARMLESS = {
    "sqlite": "CREATE TRIGGER t AFTER UPDATE ON {0} BEGIN SELECT 1; END",
    "postgresql": "CREATE FUNCTION f() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN "
    "RETURN NEW; END $$; CREATE TRIGGER t BEFORE UPDATE ON {0} FOR EACH ROW EXECUTE FUNCTION f()",
    "mariadb": "CREATE TRIGGER t BEFORE UPDATE ON {0} FOR EACH ROW SET @x = 1",
}
LINES = {
    "clear": ("weirs", "clear weirs --where id<3 --columns b"),
    "clear in batches": ("weirs", "clear weirs --where id<3 --columns b --batch 1"),
    "detach": ("gates", "delete weirs --where id<3"),
    "move": ("gates", "dedupe weirs --same a --keep 'lowest id'"),
    "fill": ("weirs", "dedupe weirs --same a --keep 'lowest id' --fill"),
}


@pytest.mark.parametrize("harmless", [False, True])
@pytest.mark.parametrize("what", LINES)
def test_a_trigger_that_changes_more_of_a_row_stops(
    yeldro: Yeldro, server: Server, what: str, harmless: bool
) -> None:
    table, line = LINES[what]
    server.run(TABLES)
    if what == "fill":
        server.run("UPDATE weirs SET b = NULL WHERE id IN (1, 3)")
    server.run((HARMLESS if harmless else TRIGGER)[server.engine].format(table))
    before = rows(server, "weirs", "gates")
    done = yeldro(*shlex.split(line), "--yes")
    if harmless:
        assert done.status == 0, done
        assert yeldro("restore", "last", "--yes").status == 0
        assert rows(server, "weirs", "gates") == before
        return
    assert (done.status, "trigger t" in done.err) == (3, True), done
    assert rows(server, "weirs", "gates") == before


CARRIED = {
    "plain": "CREATE TABLE c (id INTEGER PRIMARY KEY, p INTEGER, {key} (p), "
    "FOREIGN KEY (p) REFERENCES weirs (id) ON DELETE SET NULL)",
    "generated": "CREATE TABLE c (id INTEGER PRIMARY KEY, w INTEGER, p INTEGER AS (w) STORED, "
    "{key} (p), FOREIGN KEY (w) REFERENCES weirs (id))",
}


@pytest.mark.parametrize("key", ["KEY", "UNIQUE KEY"])
@pytest.mark.parametrize("what", CARRIED)
@pytest.mark.parametrize("points", [True, False])
def test_what_the_server_carries_on_without_counting_it(
    yeldro: Yeldro, server: Server, what: str, key: str, points: bool
) -> None:
    if server.engine != "mariadb":
        return  # the others count it, and let nobody point at what is not unique
    server.run(
        TABLES[0],
        TABLES[2],
        CARRIED[what].format(key=key),
        "CREATE TABLE d (id INTEGER PRIMARY KEY, x INTEGER, "
        "FOREIGN KEY (x) REFERENCES c (p) ON UPDATE CASCADE)",
        f"INSERT INTO c (id, {'w' if what == 'generated' else 'p'}) VALUES (1, 1)",
        f"INSERT INTO d VALUES (1, {1 if points else 'NULL'})",
    )
    before = rows(server, "weirs", "c", "d")
    done = yeldro("delete", "weirs", "--key", "1", "--dependents", "c=detach", "--yes")
    if points:
        assert (done.status, "d.x -> c.p" in done.err) == (3, True), done
        assert rows(server, "weirs", "c", "d") == before
        return
    assert done.status == 0, done
    assert yeldro("restore", "last", "--yes").status == 0
    assert rows(server, "weirs", "c", "d") == before
