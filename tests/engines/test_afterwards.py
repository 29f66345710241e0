"""What is said once rows are gone: the room that they took, and the figures of the planner."""

from __future__ import annotations

import pytest

from tests.conftest import Yeldro
from tests.servers import Server
from yeldro.engines.shared.connection import SqlDatabase
from yeldro.errors import DatabaseFailed

ROWS = 10_500
SERIES = {
    "sqlite": "(WITH RECURSIVE s (value) AS (SELECT 1 UNION ALL SELECT value + 1 FROM s WHERE "
    f"value < {ROWS}) SELECT value FROM s)",
    "postgresql": f"generate_series(1, {ROWS}) AS s (value)",
    "mariadb": f"(SELECT seq AS value FROM seq_1_to_{ROWS}) AS s",
}
SAID = {"sqlite": "VACUUM", "postgresql": "VACUUM FULL", "mariadb": "OPTIMIZE TABLE"}
FIGURES = {
    "sqlite": "SELECT CAST(stat AS INTEGER) FROM sqlite_stat1 WHERE tbl = 'weirs'",
    "postgresql": "SELECT reltuples::int FROM pg_class WHERE relname = 'weirs'",
    "mariadb": "SELECT n_rows FROM mysql.innodb_table_stats WHERE table_name = 'weirs' AND "
    "database_name = DATABASE()",
}


def fill(server: Server) -> None:
    server.run("CREATE TABLE weirs (id INTEGER PRIMARY KEY, name VARCHAR(20))")
    rows = SERIES[server.engine]
    server.run(f"INSERT INTO weirs SELECT value, 'weir' FROM {rows}")
    if server.engine == "sqlite":
        server.run("ANALYZE")


def test_many_rows_leave_room_behind_and_few_do_not(yeldro: Yeldro, server: Server) -> None:
    fill(server)
    many = yeldro("delete", "weirs", "--where", "id > 300", "--yes", "--no-archive")
    assert (many.status, "Room on disk" in many.out, SAID[server.engine] in many.out) == (0, 1, 1)
    assert "--then-analyze" in many.out
    few = yeldro("delete", "weirs", "--where", "id > 290", "--yes", "--no-archive")
    assert (few.status, "Room on disk" in few.out) == (0, False)


def test_the_planner_knows_what_is_left(yeldro: Yeldro, server: Server) -> None:
    fill(server)
    line = ["delete", "weirs", "--where", "id > 300", "--yes", "--no-archive", "--then-analyze"]
    done = yeldro(*line)
    assert (done.status, "this was done" in done.out) == (0, True), done.err
    ((rows,),) = server.query(FIGURES[server.engine])
    assert 250 < rows < 350  # MariaDB looks at some pages only


def test_what_fails_then_changes_no_ending(
    yeldro: Yeldro, server: Server, monkeypatch: pytest.MonkeyPatch
) -> None:
    def fail(*_: object) -> None:
        raise DatabaseFailed("The connection to the server was lost.")

    monkeypatch.setattr(SqlDatabase, "analyze", fail)
    fill(server)
    done = yeldro("delete", "weirs", "--where", "id > 300", "--yes", "--then-analyze")
    assert (done.status, "Committed." in done.out, "was lost" in done.out) == (0, True, True)
