"""A run in batches, each of about a quarter of a second, against one DELETE of the same rows,
committed: half of two million rows, in the order of their keys, by a condition that no index knows.
The table is one in use: it has two indexes, and another one references it. Beside it stands the
same in the same batches by hand: keys fixed and numbered once, then lock, look, delete, commit."""

from __future__ import annotations

import os
import tempfile
import time
from collections.abc import Sequence
from contextlib import closing
from pathlib import Path
from statistics import median
from typing import Any

import sqlalchemy as sa
from tests.servers import Server

from tools.bench_tree import SERIES, Stopwatch, _Clock, engines
from tools.figures import Figure, Figures
from yeldro.core.reach.request import Request
from yeldro.core.run.batching import Pace
from yeldro.core.selection.selection import Asked
from yeldro.store.batch_file import BATCHES, BatchFile
from yeldro.store.run_record import Keeping
from yeldro.usecases.run import Manner, run
from yeldro.usecases.steps import Deletion

ROWS = 2_000_000
_WHERE = "half = 1"
BARS = {"sqlite": 1.8, "postgresql": 2.0, "mariadb": 2.7}


def _build(server: Server, rows: int) -> None:
    server.clear()
    place = "'gauge at bend ' || n" if server.engine != "mariadb" else "CONCAT('gauge at bend ', n)"
    server.run(
        "CREATE TABLE marks (id INTEGER PRIMARY KEY, half INT, place VARCHAR(60), note INT)",
        f"INSERT INTO marks SELECT n, n % 2, {place}, n % 100 FROM "
        f"{SERIES[server.engine].format(rows)} AS s",
        "CREATE INDEX marks_place ON marks (place)",
        "CREATE INDEX marks_note ON marks (note)",
        "CREATE TABLE notes (id INTEGER PRIMARY KEY, mark_id INT, FOREIGN KEY (mark_id) REFERENCES "
        "marks (id))",
        f"INSERT INTO notes SELECT n, n * 2 FROM {SERIES[server.engine].format(rows // 10)} AS s",
        "CREATE INDEX notes_mark ON notes (mark_id)",
        *{
            "postgresql": ["VACUUM ANALYZE marks", "VACUUM ANALYZE notes"],
            "mariadb": ["ANALYZE TABLE marks, notes"],
        }.get(server.engine, ["ANALYZE"]),
    )
    if server.engine == "sqlite":
        server.query("PRAGMA journal_mode = WAL")
    # Whoever syncs first would else pay for what was written here.
    os.sync()


def _begin(server: Server, connection: Any) -> Any:
    """A cursor of a connection that checks and syncs as ours does."""
    cursor = connection.cursor()
    for name in ("synchronous = FULL", "foreign_keys = ON") if server.engine == "sqlite" else ():
        cursor.execute(f"PRAGMA {name}")
    return cursor


def _by_hand(server: Server) -> float:
    with closing(server.connect()) as connection:
        cursor = _begin(server, connection)
        start = time.perf_counter()
        cursor.execute(f"DELETE FROM marks WHERE {_WHERE}")
        connection.commit()
        return time.perf_counter() - start


def _batches_by_hand(server: Server, ranges: Sequence[tuple[int, int]]) -> tuple[float, float]:
    """The best that somebody would write, without a record and without a proof: how long all of
    it takes, and the longest batch."""
    temp = "TEMPORARY TABLE" if server.engine == "mariadb" else "TEMP TABLE"
    lock = "" if server.engine == "sqlite" else " FOR UPDATE"
    key = "" if server.engine == "postgresql" else ", PRIMARY KEY (number)"
    with closing(server.connect()) as connection:
        cursor = _begin(server, connection)
        start = time.perf_counter()
        cursor.execute(f"CREATE {temp} numbered (number INTEGER, id INTEGER{key})")
        cursor.execute(
            "INSERT INTO numbered SELECT row_number() OVER (ORDER BY id), id FROM marks "
            f"WHERE {_WHERE}"
        )
        if server.engine == "postgresql":
            cursor.execute("CREATE INDEX ON numbered (number)")
            cursor.execute("ANALYZE numbered")
        connection.commit()
        longest = 0.0
        for first, last in ranges:
            began = time.perf_counter()
            some = f"number BETWEEN {first} AND {last}"
            cursor.execute("BEGIN IMMEDIATE" if server.engine == "sqlite" else "BEGIN")
            wanted = f"id IN (SELECT id FROM numbered WHERE {some})"
            if server.engine == "postgresql":  # else it looks through the whole table
                cursor.execute(f"SELECT min(id), max(id) FROM numbered WHERE {some}")
                wanted += " AND id BETWEEN {} AND {}".format(*cursor.fetchone())
            cursor.execute(f"SELECT id FROM marks WHERE {_WHERE} AND {wanted}{lock}")
            cursor.fetchall()
            delete = f"DELETE FROM marks WHERE {wanted}"
            if server.engine == "mariadb":
                delete = f"DELETE marks FROM numbered JOIN marks USING (id) WHERE {some}"
            cursor.execute(delete)
            cursor.execute("COMMIT")
            longest = max(longest, time.perf_counter() - began)
        return time.perf_counter() - start, longest


def _ours(
    server: Server, pace: Pace, clock: _Clock
) -> tuple[float, list[float], list[tuple[int, int]]]:
    """How long the run took, and each batch, with its first and last number."""
    facts = {"kind": "delete", "asked": "", "address": ""}
    keeping = Keeping(Path(tempfile.mkdtemp()), archive=False, facts=facts)
    sa.event.listen(sa.Engine, "before_cursor_execute", clock.before)
    sa.event.listen(sa.Engine, "after_cursor_execute", clock.after)
    with closing(server.open(wait=60)) as database:
        start = time.perf_counter()
        job = Deletion(database, Request(Asked("marks", where=(_WHERE,)), sample=0))
        manner = Manner(ask_first=False, pace=pace)
        result = run(database, [job], manner, Stopwatch(), keeping)
        taken = time.perf_counter() - start
    sa.event.remove(sa.Engine, "before_cursor_execute", clock.before)
    sa.event.remove(sa.Engine, "after_cursor_execute", clock.after)
    if result.outcome.label != "committed":
        raise SystemExit(f"the run did not end well: {result.reason}")
    lines = BatchFile(keeping.folder / result.run / BATCHES).committed()
    ends = [(one["first"], one["last"]) for one in lines]
    return taken, [one["seconds"] for one in lines], ends


def bench_batches(figures: Figures, rows: int = ROWS) -> bool:
    """All engines; returns whether every bar was met."""
    met = True
    for server in engines():
        hand, cut, mine, last, clocks = [], [], [], [], []
        longest: dict[str, list[float]] = {"ours": [], "by hand": []}
        for _ in range(3):
            _build(server, rows)
            hand.append(_by_hand(server))
            _build(server, rows)
            clocks.append(_Clock())
            taken, batches, ends = _ours(server, Pace(), clocks[-1])
            mine.append(taken)
            _build(server, rows)
            total, slowest = _batches_by_hand(server, ends)
            cut.append(total)
            longest["ours"].append(max(batches))
            longest["by hand"].append(slowest)
            last.append(batches[-1] / median(batches))
        others = {"one DELETE": (hand, BARS[server.engine]), "batches by hand": (cut, 1.3)}
        spent = [one.spent for one in clocks]
        met &= figures.compare("batches", server.engine, mine, others, spent)
        held = {way: median(taken) for way, taken in longest.items()}
        figure = Figure("batches, the longest", server.engine, held["ours"], 0.3, "second", held)
        met &= figures.add(figure)
        figure = Figure("batches, the last one", server.engine, median(last), 1.5, "the median one")
        met &= figures.add(figure)
    return met
