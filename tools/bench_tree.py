"""Deleting a tree of three levels on the three engines: by hand, by cascade, and ours, in one run.

Every way runs in a transaction that is rolled back afterwards, so that all meet the same rows; the
time is taken before the rollback. By hand: the best child-first statements for the same rows,
without counts.
"""

from __future__ import annotations

import resource
import sys
import tempfile
import time
from collections import defaultdict
from collections.abc import Callable, Iterator, Sequence
from contextlib import closing
from importlib import import_module
from pathlib import Path
from typing import Any

import sqlalchemy as sa
from tests.servers import ENGINES, Server, served

from tools.figures import Figure, Figures
from yeldro.core.reach.request import Request
from yeldro.core.reach.rules import Rule, Rules
from yeldro.core.run.batching import Progress
from yeldro.core.run.forecast import Forecast
from yeldro.core.run.preview import Preview
from yeldro.core.run.tally import Tally
from yeldro.core.selection.selection import Asked
from yeldro.engines.shared.gate import Gate
from yeldro.errors import DatabaseFailed
from yeldro.store.run_record import Keeping
from yeldro.usecases import run as running

PARENTS = 200_000
_TURNS = 5
SERIES = {
    "sqlite": "(WITH RECURSIVE s (n) AS (SELECT 1 UNION ALL SELECT n + 1 FROM s WHERE n < {0}) "
    "SELECT n FROM s)",
    "postgresql": "(SELECT n FROM generate_series(1, {0}) AS n)",
    "mariadb": "(SELECT seq AS n FROM seq_1_to_{0})",
}
HAND = {
    "sqlite": [
        "CREATE TEMP TABLE kp AS SELECT id FROM basins WHERE batch = 3",
        "CREATE TEMP TABLE kc AS SELECT id FROM gauges WHERE basin_id IN (SELECT id FROM kp)",
        "DELETE FROM levels WHERE gauge_id IN (SELECT id FROM kc)",
        "DELETE FROM gauges WHERE id IN (SELECT id FROM kc)",
        "DELETE FROM basins WHERE id IN (SELECT id FROM kp)",
    ],
    "postgresql": [
        "CREATE TEMP TABLE kp ON COMMIT DROP AS SELECT id FROM basins WHERE batch = 3",
        "ANALYZE kp",
        "CREATE TEMP TABLE kc ON COMMIT DROP AS SELECT c.id FROM gauges AS c JOIN kp ON c.basin_id "
        "= kp.id",
        "ANALYZE kc",
        "DELETE FROM levels AS l USING kc WHERE l.gauge_id = kc.id",
        "DELETE FROM gauges AS g USING kc WHERE g.id = kc.id",
        "DELETE FROM basins AS b USING kp WHERE b.id = kp.id",
    ],
    "mariadb": [
        "CREATE TEMPORARY TABLE kp (id INT PRIMARY KEY) AS SELECT id FROM basins WHERE batch = 3",
        "CREATE TEMPORARY TABLE kc (id INT PRIMARY KEY) AS SELECT c.id FROM kp STRAIGHT_JOIN "
        "gauges AS c ON c.basin_id = kp.id",
        "DELETE l FROM kc STRAIGHT_JOIN levels AS l ON l.gauge_id = kc.id",
        "DELETE g FROM kc STRAIGHT_JOIN gauges AS g ON g.id = kc.id",
        "DELETE b FROM kp STRAIGHT_JOIN basins AS b ON b.id = kp.id",
    ],
}


def build(server: Server, parents: int, cascade: bool, indexed: bool = True) -> None:
    """`parents` rows, five children each, two grandchildren each of those; one in ten parents is to
    go."""
    rule = "ON DELETE CASCADE" if cascade else ""
    levels = (
        ("basins", "", parents),
        ("gauges", "basin", parents * 5),
        ("levels", "gauge", parents * 10),
    )
    server.clear()
    for place, (name, parent, rows) in enumerate(levels):
        link = (
            f", {parent}_id INT NOT NULL REFERENCES {levels[place - 1][0]} (id) {rule}"
            if parent
            else ""
        )
        server.run([f"CREATE TABLE {name} (id INT PRIMARY KEY, batch INT, note VARCHAR(40){link})"])
        factor = rows // levels[place - 1][2] if parent else 1
        columns = f"n, n % 10, 'water level as read'{f', (n - 1) / {factor} + 1' if parent else ''}"
        if server.engine == "mariadb":
            columns = columns.replace("(n - 1) /", "(n - 1) DIV")
        server.run(
            [f"INSERT INTO {name} SELECT {columns} FROM {SERIES[server.engine].format(rows)} AS s"]
        )
        if parent and indexed:
            server.run([f"CREATE INDEX {name}_{parent} ON {name} ({parent}_id)"])
    if server.engine == "postgresql":
        server.run(["VACUUM ANALYZE"])
    elif server.engine == "mariadb":
        server.run(["ANALYZE TABLE basins, gauges, levels"])
    else:
        server.run(["ANALYZE"])


def by_statements(server: Server, statements: list[str]) -> float:
    with closing(server.connect()) as connection:
        cursor = connection.cursor()
        if server.engine == "sqlite":
            cursor.execute("PRAGMA foreign_keys = ON")
            cursor.execute("PRAGMA synchronous = FULL")  # tests do without
        cursor.execute("BEGIN IMMEDIATE" if server.engine == "sqlite" else "BEGIN")
        start = time.perf_counter()
        for statement in statements:
            cursor.execute(statement)
        taken = time.perf_counter() - start
        cursor.execute("ROLLBACK")
    return taken


class Stopwatch:
    start = 0.0
    taken = 0.0

    def show(self, preview: Preview) -> None:
        pass

    def allow(self, previews: Sequence[Preview]) -> bool:
        return any(one.reach.matched for one in previews)

    def show_forecast(self, found: Forecast) -> None:
        pass

    def allow_more(self, preview: Preview, rows: int) -> bool:
        return True

    def allow_commit(self, tally: Tally) -> bool:
        self.taken = time.perf_counter() - self.start
        self.rows = sum(line.deleted for line in tally.lines)
        return False

    def begin_batches(self) -> None:
        pass

    def batch_done(self, progress: Progress) -> None:
        self.progress = progress

    def waiting(self, name: str, seconds: float, progress: Progress) -> None:
        pass

    def wants_to_stop(self) -> bool:
        return False

    def copying(self, rows: int, total: int) -> None:
        pass

    def committing(self) -> None:
        pass


def ours(
    server: Server, clock: _Clock | None = None, keeping: Keeping | None = None
) -> tuple[float, int]:
    """Seconds up to the balanced tally, and the growth of this process in KiB."""
    database = server.open(wait=60)
    answers = Stopwatch()
    clock = clock or _Clock()
    sa.event.listen(sa.Engine, "before_cursor_execute", clock.before)
    sa.event.listen(sa.Engine, "after_cursor_execute", clock.after)
    before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    answers.start = time.perf_counter()
    request = Request(Asked("basins", where=("batch = 3",)), Rules(Rule.DELETE), sample=0)
    result = running.delete(
        database, request, running.Manner(ask_first=False, ask_last=True), answers, keeping
    )
    if result.tally is None or not result.tally.balanced:
        sys.exit(f"the run did not balance: {result.reason}")
    database.close()
    sa.event.remove(sa.Engine, "before_cursor_execute", clock.before)
    sa.event.remove(sa.Engine, "after_cursor_execute", clock.after)
    return answers.taken, resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before


def engines(names: list[str] = ENGINES) -> Iterator[Server]:
    for engine in names:
        with served(engine, Path(tempfile.mkdtemp())) as server:
            yield server


class _Clock:
    """Where the time of a run goes, by what its statements are for."""

    def __init__(self) -> None:
        self.spent: dict[str, float] = defaultdict(float)

    def before(self, *_: Any) -> None:
        self.start = time.perf_counter()

    def after(self, _: Any, __: Any, statement: str, *___: Any) -> None:
        self.spent[_purpose(statement)] += time.perf_counter() - self.start


def _purpose(statement: str) -> str:
    if statement.startswith("SELECT count"):
        return (
            "counts of matched and of dangling rows"
            if "WHERE" in statement
            else "counts of whole tables"
        )
    kinds = {"INSERT": "keys", "CREATE": "keys", "ANALYZE": "keys", "DELETE": "deletes"}
    return kinds.get(statement.split()[0], "the rest")


def bench_tree(figures: Figures, parents: int = PARENTS) -> bool:
    """All engines; returns whether every bar was met."""
    met = True
    bars = {"sqlite": 1.0, "postgresql": 1.7, "mariadb": 1.4}
    for server in engines():
        build(server, parents, cascade=True)
        hand, cascade, mine, grown = [], [], [], 0
        clocks = []
        for _ in range(_TURNS):
            hand.append(by_statements(server, HAND[server.engine]))
            cascade.append(by_statements(server, ["DELETE FROM basins WHERE batch = 3"]))
            clocks.append(_Clock())
            taken, growth = ours(server, clocks[-1])
            mine.append(taken)
            grown = max(grown, growth)
        others = {"hand": (hand, 1.15), "cascade": (cascade, bars[server.engine])}
        met &= figures.compare("tree", server.engine, mine, others, [one.spent for one in clocks])
        met &= figures.add(Figure("tree, memory", server.engine, grown / 1024, 16, "MiB"))
    return met


def bench_growth(figures: Figures, parents: int = PARENTS) -> bool:
    """Ten times the rows."""
    met = True
    for server in engines():
        taken = []
        for size in (parents // 10, parents):
            build(server, size, cascade=False)
            taken.append([ours(server)[0] for _ in range(3)])
        others = {"a tenth of the rows": (taken[0], 11.0)}
        met &= figures.compare("growth", server.engine, taken[1], others)
    return met


def bench_unindexed(figures: Figures, parents: int = PARENTS) -> bool:
    """Reference columns without an index, against building them by hand first."""
    columns = (("gauges", "basin_id"), ("levels", "gauge_id"))
    made = [f"CREATE INDEX by_{column} ON {table} ({column})" for table, column in columns]
    dropped = [f"DROP INDEX by_{column}" for _, column in columns]
    met = True
    for server in engines(["postgresql", "sqlite"]):
        build(server, parents, cascade=False, indexed=False)
        hand, mine, clocks = [], [], []
        for _ in range(3):
            hand.append(by_statements(server, [*made, *HAND[server.engine], *dropped]))
            clocks.append(_Clock())
            mine.append(ours(server, clocks[-1])[0])
        others = {"indexes by hand": (hand, 1.3)}
        spent = [one.spent for one in clocks]
        met &= figures.compare("tree without indexes", server.engine, mine, others, spent)
    return met


DRIVERS = {"sqlite": "sqlite", "postgresql": "postgresql+psycopg", "mariadb": "mysql+pymysql"}


def bench_catalogue(figures: Figures) -> bool:
    """150 tables with references and indexes, against SQLAlchemy's own reflection."""
    met = True
    bars = {"sqlite": 0.15, "postgresql": 0.3, "mariadb": 0.65}
    for server in engines():
        for place in range(150):
            link = f", up INT REFERENCES t{place - 1} (id)" if place else ""
            columns = ", ".join(f"c{number} VARCHAR(20)" for number in range(8))
            server.run(
                [f"CREATE TABLE t{place} (id INT PRIMARY KEY, code INT UNIQUE, {columns}{link})"]
            )
            server.run([f"CREATE INDEX i{place} ON t{place} (c1, c2)"])
        reader = import_module(f"yeldro.engines.{server.engine}.catalogue")
        more: dict[str, list[Any]] = {
            "postgresql": [["public"]],
            "mariadb": [server.place.rpartition("/")[2]],
        }
        # On a connection as the driver makes it: reflection does not expect our settings.
        plain = sa.create_engine(sa.URL.create(DRIVERS[server.engine]), creator=server.connect)
        with plain.connect() as connection, closing(server.open()) as database:
            writer = getattr(database, "gate").writer  # noqa: B009
            gate = Gate(connection, lambda error: DatabaseFailed(str(error)), lambda: True, writer)
            reflected, read = [], []
            for _ in range(_TURNS):
                reflected.append(_timed(_reflect, connection))
                read.append(_timed(reader.read_schema, gate, *more.get(server.engine, [])))
        plain.dispose()
        others = {"get_multi_*": (reflected, bars[server.engine])}
        met &= figures.compare("catalogue of 150 tables", server.engine, read, others)
    return met


def _timed(work: Callable[..., object], *arguments: object) -> float:
    start = time.perf_counter()
    work(*arguments)
    return time.perf_counter() - start


def _reflect(connection: sa.Connection) -> None:
    inspector = sa.inspect(connection)
    for what in ("columns", "pk_constraint", "foreign_keys", "indexes", "unique_constraints"):
        getattr(inspector, f"get_multi_{what}")()
