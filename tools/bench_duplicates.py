"""Removing duplicates against the textbook window statement: 1,000,000 rows, a fifth of them
surplus, by two texts; alone, and with a row of another table depending on each surplus one."""

from __future__ import annotations

import resource
import sys
import time
from contextlib import closing

import sqlalchemy as sa
from tests.servers import Server

from tools.bench_tree import SERIES, Stopwatch, _Clock, by_statements, engines
from tools.figures import Figure, Figures
from yeldro.core.duplicates.request import DuplicatesRequest, read_duplicates
from yeldro.core.selection.selection import Asked
from yeldro.usecases import run as running

ROWS = 1_000_000
BARS = {"sqlite": 0.7, "postgresql": 0.5, "mariadb": 0.5}
_RANKED = "SELECT id, ROW_NUMBER() OVER (PARTITION BY place, taken ORDER BY id) AS n FROM marks"
_PAIRED = (
    "SELECT id, kept FROM (SELECT id, ROW_NUMBER() OVER w AS n, FIRST_VALUE(id) OVER w AS kept "
    "FROM marks WINDOW w AS (PARTITION BY place, taken ORDER BY id)) AS r WHERE n > 1"
)
WINDOW = {
    "sqlite": [
        f"WITH r AS ({_RANKED}) DELETE FROM marks WHERE id IN (SELECT id FROM r WHERE n > 1)"
    ],
    "postgresql": [
        f"WITH r AS ({_RANKED}) DELETE FROM marks USING r WHERE marks.id = r.id AND r.n > 1"
    ],
    "mariadb": [f"DELETE m FROM marks AS m JOIN ({_RANKED}) AS r ON m.id = r.id WHERE r.n > 1"],
}
MOVING = {
    "sqlite": [
        f"CREATE TEMP TABLE k AS {_PAIRED}",
        "UPDATE notes SET mark_id = k.kept FROM k WHERE mark_id = k.id",
        "DELETE FROM marks WHERE id IN (SELECT id FROM k)",
    ],
    "postgresql": [
        f"CREATE TEMP TABLE k ON COMMIT DROP AS {_PAIRED}",
        "UPDATE notes SET mark_id = k.kept FROM k WHERE mark_id = k.id",
        "DELETE FROM marks USING k WHERE marks.id = k.id",
    ],
    "mariadb": [
        f"CREATE TEMPORARY TABLE k (id INT PRIMARY KEY) AS {_PAIRED}",
        "UPDATE k JOIN notes ON notes.mark_id = k.id SET notes.mark_id = k.kept",
        "DELETE m FROM k STRAIGHT_JOIN marks AS m ON m.id = k.id",
    ],
}


def _build(server: Server, rows: int, notes: bool) -> None:
    kept = rows * 4 // 5
    # Scattered, as rows come in: neighbours have nothing in common.
    place, taken = (
        "'gauge at bend ' || ({0} * 7919 % 1299709)",
        "'reading ' || ({0} * 104729 % 15485863)",
    )
    if server.engine == "mariadb":
        place, taken = (
            "CONCAT('gauge at bend ', {0} * 7919 % 1299709)",
            "CONCAT('reading ', {0} * 104729 % 15485863)",
        )
    if server.engine == "postgresql":
        place, taken = place.replace("{0}", "{0}::bigint"), taken.replace("{0}", "{0}::bigint")
    number = f"(CASE WHEN n > {kept} THEN n - {kept} ELSE n END)"
    server.clear()
    statements = [
        "CREATE TABLE marks (id INTEGER PRIMARY KEY, place VARCHAR(60), taken VARCHAR(60), level "
        "INT)"
    ]
    cells = f"n, {place.format(number)}, {taken.format(number)}, n % 100"
    statements.append(
        f"INSERT INTO marks SELECT {cells} FROM {SERIES[server.engine].format(rows)} AS s"
    )
    if notes:
        statements += [
            "CREATE TABLE notes (id INTEGER PRIMARY KEY, mark_id INT REFERENCES marks (id), text "
            "VARCHAR(40))",
            f"INSERT INTO notes SELECT n, n + {kept}, 'as read' FROM "
            f"{SERIES[server.engine].format(rows - kept)} AS s",
            "CREATE INDEX notes_mark ON notes (mark_id)",
        ]
    tables = "marks, notes" if notes else "marks"
    statements.append(
        {"postgresql": f"ANALYZE {tables}", "mariadb": f"ANALYZE TABLE {tables}"}.get(
            server.engine, "ANALYZE"
        )
    )
    server.run(statements)


def _ours(server: Server, clock: _Clock) -> tuple[float, int]:
    answers = Stopwatch()
    sa.event.listen(sa.Engine, "before_cursor_execute", clock.before)
    sa.event.listen(sa.Engine, "after_cursor_execute", clock.after)
    before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    with closing(server.open(wait=60)) as database:
        answers.start = time.perf_counter()
        asked = Asked("marks", all_rows=True)
        grouping = read_duplicates(
            database.schema, database.dialect, asked, ["place", "taken"], ["lowest id"]
        )
        manner = running.Manner(ask_first=False, ask_last=True)
        result = running.dedupe(database, DuplicatesRequest(grouping, 0), manner, answers)
    sa.event.remove(sa.Engine, "before_cursor_execute", clock.before)
    sa.event.remove(sa.Engine, "after_cursor_execute", clock.after)
    if result.tally is None or not result.tally.balanced:
        sys.exit(f"the run did not balance: {result.reason}")
    return answers.taken, resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before


def bench_duplicates(figures: Figures, rows: int = ROWS) -> bool:
    """All engines; returns whether every bar was met."""
    met = True
    for server in engines():
        for notes in (False, True):
            _build(server, rows, notes)
            by_hand = (MOVING if notes else WINDOW)[server.engine]
            hand, mine, grown, clocks = [], [], 0, []
            for _ in range(3):
                if notes and server.engine == "mariadb":
                    by_hand = ["DROP TEMPORARY TABLE IF EXISTS k", *MOVING["mariadb"]]
                hand.append(by_statements(server, by_hand))
                clocks.append(_Clock())
                taken, growth = _ours(server, clocks[-1])
                mine.append(taken)
                grown = max(grown, growth)
            job = f"duplicates{' with dependents' if notes else ''}"
            others = {"window": (hand, BARS[server.engine])}
            spent = [one.spent for one in clocks]
            met &= figures.compare(job, server.engine, mine, others, spent)
            met &= figures.add(Figure(f"{job}, memory", server.engine, grown / 1024, 16, "MiB"))
    return met
