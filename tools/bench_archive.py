"""Archiving and restoring 500,000 rows of ten mixed columns, and the run of a tree with its
archive."""

from __future__ import annotations

import json
import os
import resource
import sys
import tempfile
import time
from collections.abc import Callable
from contextlib import closing
from functools import partial
from pathlib import Path

from tests.servers import Server

from tools.bench_tree import HAND, SERIES, Stopwatch, build, by_statements, engines, ours
from tools.figures import Figure, Figures
from yeldro.core.database.connection import Database
from yeldro.core.reach.request import Request
from yeldro.core.restore.plan import RestorePlan
from yeldro.core.run.outcome import RunResult
from yeldro.core.selection.selection import Asked
from yeldro.store.find_records import find_record
from yeldro.store.run_record import Keeping, RunRecord
from yeldro.usecases import restore as restoring
from yeldro.usecases import run as running

TEXT = {"sqlite": "'{0} ' || n", "postgresql": "'{0} ' || n", "mariadb": "CONCAT('{0} ', n)"}
COLUMNS = "id, station, sensor, value, level, taken_at, remark, checked, digest, spare"
ROWS = {
    "sqlite": "n, {station}, n % 100, n * 1.5, n * 0.1, datetime('2024-01-01', n || ' seconds'),"
    " CASE WHEN n % 3 THEN {remark} END, n % 2, hex(n), NULL",
    "postgresql": "n, {station}, n % 100, n * 1.5, n * 0.1::float8, timestamp '2024-01-01' + n * "
    "interval '1 s',"
    " CASE WHEN n % 3 > 0 THEN {remark} END, n % 2 = 0, md5(n::text), NULL::text",
    "mariadb": "n, {station}, n % 100, n * 1.5, n * 0.1e0, '2024-01-01' + INTERVAL n SECOND,"
    " IF(n % 3, {remark}, NULL), n % 2, MD5(n), NULL",
}
TABLE = (
    "CREATE TABLE readings (id INT PRIMARY KEY, station VARCHAR(40), sensor INT, value NUMERIC(12, "
    "1), level {double}, taken_at TIMESTAMP NULL, remark VARCHAR(40), checked BOOLEAN, digest "
    "CHAR(32), spare TEXT)"
)
KEYS = {
    "sqlite": [
        "CREATE TEMP TABLE k (id INTEGER PRIMARY KEY)",
        "INSERT INTO k SELECT id FROM readings",
    ],
    "postgresql": ["CREATE TEMP TABLE k AS SELECT id FROM readings", "ANALYZE k"],
    "mariadb": ["CREATE TEMPORARY TABLE k (id INT PRIMARY KEY) AS SELECT id FROM readings"],
}
BARE = {
    "sqlite": "DELETE FROM readings WHERE id IN (SELECT id FROM k)",
    "postgresql": "DELETE FROM readings USING k WHERE readings.id = k.id",
    "mariadb": "DELETE readings FROM k STRAIGHT_JOIN readings ON readings.id = k.id",
}
BARS = {"sqlite": (0.9, 2), "postgresql": (1.4, 5), "mariadb": (1.4, 4)}


class _Answers(Stopwatch):
    def show_plan(self, plan: RestorePlan) -> None:
        pass

    def allow_restore(self, plan: RestorePlan) -> bool:
        return True

    def allow_commit(self, tally: object) -> bool:
        return True


ANSWERS = _Answers()


def table(server: Server) -> str:
    return TABLE.format(double="REAL" if server.engine == "sqlite" else "DOUBLE PRECISION")


def fill(server: Server, rows: int) -> None:
    texts = {name: TEXT[server.engine].format(name) for name in ("station", "remark")}
    cells = ROWS[server.engine].format(**texts)
    server.clear()
    series = SERIES[server.engine].format(rows)
    server.run([table(server), f"INSERT INTO readings SELECT {cells} FROM {series} AS s"])
    server.run(
        ["VACUUM ANALYZE readings"]
        if server.engine == "postgresql"
        else ["ANALYZE TABLE readings"][:0]
    )


def baseline(server: Server, folder: Path) -> tuple[float, str]:
    """PostgreSQL: COPY of the same rows, by their keys, to a synced file. Others: DELETE of the
    rows by their keys."""
    with closing(server.connect()) as connection:
        cursor = connection.cursor()
        for statement in KEYS[server.engine]:
            cursor.execute(statement)
        start = time.perf_counter()
        if server.engine != "postgresql":
            cursor.execute("BEGIN IMMEDIATE" if server.engine == "sqlite" else "BEGIN")
            cursor.execute(BARE[server.engine])
            taken = time.perf_counter() - start
            cursor.execute("ROLLBACK")
            return taken, "DELETE by known keys"
        query = "COPY (SELECT readings.* FROM readings WHERE id IN (SELECT id FROM k)) TO STDOUT"
        with (folder / "copy.txt").open("wb") as file, cursor.copy(query) as copying:
            for line in copying:
                file.write(line)
            file.flush()
            os.fsync(file.fileno())
        return time.perf_counter() - start, "COPY text to a file"


def by_executemany(server: Server, share: int) -> float:
    """Seconds to insert all rows, measured on one row in `share`."""
    marks = {"sqlite": "?"}.get(server.engine, "%s")
    with closing(server.connect()) as connection:
        cursor = connection.cursor()
        cursor.execute(f"SELECT {COLUMNS} FROM readings WHERE id % {share} = 0")
        rows = cursor.fetchall()
        cursor.execute(table(server).replace("readings", "other"))
        cursor.execute("BEGIN")
        start = time.perf_counter()
        cursor.executemany(
            f"INSERT INTO other ({COLUMNS}) VALUES ({', '.join([marks] * 10)})", rows
        )
        cursor.execute("COMMIT")
        taken = time.perf_counter() - start
        cursor.execute("DROP TABLE other")
    return taken * share


def bench_archive(figures: Figures, parents: int) -> bool:
    met = True
    rows = parents * 5 // 2
    for server in engines():
        folder = Path(tempfile.mkdtemp())
        keeping = Keeping(folder, facts={"kind": "delete", "asked": "", "address": ""})
        # Once with few rows, so that what is imported meanwhile is there before memory is measured.
        fill(server, 1000)
        timed(server, partial(delete, keeping))
        timed(server, partial(restore, find_record(folder, "last")))
        fill(server, rows)
        bare, many, archived, restored = [], [], [], []
        start, grown = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss, 0
        for turn in range(3):
            timed(server, partial(delete, keeping))
            record = find_record(folder, "last")
            facts = json.loads((record.folder / "run.json").read_text())
            archived.append(facts["seconds"]["archive"])
            restored.append(timed(server, partial(restore, record)))
            if not turn:  # the baseline, which comes next, holds rows
                grown = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - start
            taken, name = baseline(server, folder)
            bare.append(taken)
            many.append(by_executemany(server, 10))
        archive_bar, faster = BARS[server.engine]
        met &= figures.compare("archive", server.engine, archived, {name: (bare, archive_bar)})
        others = {"executemany": (many, 1 / faster)}
        met &= figures.compare("restore", server.engine, restored, others)
        met &= figures.add(Figure("archive, memory", server.engine, grown / 1024, 16, "MiB"))
        build(server, parents, cascade=False)
        hand, mine = [], []
        for _ in range(3):
            hand.append(by_statements(server, HAND[server.engine]))
            mine.append(ours(server, keeping=keeping)[0])
        others = {"hand, without a copy": (hand, 1.6)}
        met &= figures.compare("tree, archived", server.engine, mine, others)
    return met


def delete(keeping: Keeping, database: Database) -> RunResult:
    request = Request(Asked("readings", all_rows=True), sample=0)
    return running.delete(database, request, running.Manner(ask_first=False), ANSWERS, keeping)


def restore(record: RunRecord, database: Database) -> RunResult:
    return restoring.restore(database, record, restoring.RestoreRequest(), ANSWERS)


def timed(server: Server, work: Callable[[Database], RunResult]) -> float:
    database = server.open(wait=60)
    start = time.perf_counter()
    result = work(database)
    taken = time.perf_counter() - start
    database.close()
    if result.outcome is not running.Outcome.COMMITTED:
        sys.exit(f"not committed: {result.reason}")
    return taken
