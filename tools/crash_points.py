"""Commands killed with SIGKILL before each statement and each write to disk, one after the other,
and what must be true afterwards. What is killed before a point is killed after the one before it.

Usage: ./dev crash --every [ENGINE...] [SCENARIO...]"""

from __future__ import annotations

import json
import os
import shutil
import signal
import sqlite3
import sys
import tempfile
import time
from collections.abc import Callable, Sequence
from contextlib import chdir, closing, suppress
from importlib import import_module
from pathlib import Path
from typing import Any, NamedTuple

import psycopg
import pymysql
from tests.servers import ENGINES, Server, served

from tools.crashes import SESSIONS
from yeldro.cli.command_line import run_command_line

FOREIGN = "FOREIGN KEY ({}) REFERENCES {} (id)"
TABLES = [
    "CREATE TABLE weirs (id INTEGER PRIMARY KEY, name VARCHAR(20), up INTEGER, "
    f"{FOREIGN.format('up', 'weirs')} ON DELETE SET NULL)",
    "CREATE TABLE gates (id INTEGER PRIMARY KEY, weir INTEGER NOT NULL, "
    f"{FOREIGN.format('weir', 'weirs')} ON DELETE CASCADE)",
    "CREATE TABLE notes (id INTEGER PRIMARY KEY, gate INTEGER, "
    f"{FOREIGN.format('gate', 'gates')} ON DELETE SET NULL)",
    # Nothing tells its rows apart.
    "CREATE TABLE levels (weir INTEGER, level INTEGER, "
    f"{FOREIGN.format('weir', 'weirs')} ON DELETE CASCADE)",
    "CREATE TABLE counts (name VARCHAR(9) PRIMARY KEY, n INTEGER)",
    "CREATE TABLE gone (gate INTEGER)",
    "CREATE TABLE marks (id INTEGER PRIMARY KEY, place VARCHAR(9))",
    *(f"INSERT INTO weirs VALUES ({n}, 'weir {n % 3}', NULL)" for n in range(1, 7)),
    "UPDATE weirs SET up = 1 WHERE id IN (2, 3)",
    *(f"INSERT INTO gates VALUES ({n}, {n % 6 + 1})" for n in range(1, 13)),
    *(f"INSERT INTO notes VALUES ({n}, {n % 12 + 1})" for n in range(1, 13)),
    *(f"INSERT INTO levels VALUES ({n % 6 + 1}, {n % 2})" for n in range(1, 13)),
    *(f"INSERT INTO marks VALUES ({n}, '{n % 2}')" for n in range(1, 7)),
    "INSERT INTO counts VALUES ('marks', 6)",
]
_BODY = "UPDATE counts SET n = n {} 1 WHERE name = 'marks'"
_LOG = "INSERT INTO gone VALUES (OLD.id)"
_TRIGGERS = (
    ("d", "DELETE", "marks", _BODY.format("-")),
    ("i", "INSERT", "marks", _BODY.format("+")),
    ("g", "DELETE", "gates", _LOG),
)
_MADE = {
    "sqlite": ["CREATE TRIGGER {0} AFTER {1} ON {2} BEGIN {3}; END"],
    "mariadb": ["CREATE TRIGGER {0} AFTER {1} ON {2} FOR EACH ROW {3}"],
    "postgresql": [
        "CREATE FUNCTION {0}() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN {3}; "
        "RETURN NULL; END $$",
        "CREATE TRIGGER {0} AFTER {1} ON {2} FOR EACH ROW EXECUTE FUNCTION {0}()",
    ],
}
KEYED = ("weirs", "gates", "notes", "marks", "counts")
NAMES = (*KEYED, "levels")
STEPS = """
[[steps]]
name = "first"
delete = "weirs"
where = "id < 3"
dependents = { notes = "detach" }
[[steps]]
name = "second"
dedupe = "marks"
same = "place"
keep = "highest id"
allow_trigger = ["d"]
"""


class Scenario(NamedTuple):
    """A command line that is killed, after others that are not."""

    line: str
    before: Sequence[str] = ()


_ROWS = "delete weirs --where id<4"
_BATCHES = f"{_ROWS} --batch 3"
_SAME = "dedupe weirs --same name --keep highest_id"
_CLEAR = "clear weirs --where id>1 --columns up,name"
SCENARIOS = {
    "delete": Scenario(_ROWS),
    "detach": Scenario(f"{_ROWS} --dependents notes=detach"),
    "with-dependents": Scenario(f"{_ROWS} --dependents delete"),
    "no-archive": Scenario("delete marks --where id<4 --no-archive --allow-trigger d"),
    "archive-table": Scenario(f"{_ROWS} --archive-table kept"),
    "recount": Scenario(f"{_ROWS} --recount"),
    "keyless": Scenario("delete levels --where level=1"),
    "trigger": Scenario("delete marks --where id<4 --allow-trigger d"),
    "dedupe": Scenario(_SAME),
    "dedupe-fill": Scenario(f"{_SAME} --fill"),
    "dedupe-unique": Scenario(f"{_SAME} --then-unique one_name"),
    "dedupe-keyless": Scenario("dedupe levels --same all"),
    "clear": Scenario(_CLEAR),
    "run": Scenario("run steps.toml"),
    "batches": Scenario(_BATCHES),
    "batches-of-all": Scenario(f"{_ROWS} --dependents delete --batch 3"),
    "batches-detach": Scenario(f"{_BATCHES} --dependents notes=detach"),
    "batches-keyless": Scenario("delete weirs --where id>3 --batch 2"),
    "batches-trigger": Scenario("delete marks --where id<6 --allow-trigger d --batch 2"),
    "batches-no-archive": Scenario(
        "delete marks --where id<6 --allow-trigger d --batch 2 --no-archive"
    ),
    "dedupe-batches": Scenario(f"{_SAME} --batch 1"),
    "clear-batches": Scenario(f"{_CLEAR} --batch 2"),
    "resume": Scenario("resume last", [f"{_BATCHES} --batches 1"]),
    "resume-dedupe": Scenario("resume last", [f"{_SAME} --batch 1 --batches 1"]),
    "resume-trigger": Scenario(
        "resume last", ["delete marks --where id<6 --allow-trigger d --batch 2 --batches 1"]
    ),
    "restore": Scenario("restore last", [_ROWS]),
    "restore-clear": Scenario("restore last", [_CLEAR]),
    "restore-dedupe": Scenario("restore last", [_SAME]),
    "restore-run": Scenario("restore last --allow-trigger i", ["run steps.toml"]),
    "restore-table": Scenario("restore last", [f"{_ROWS} --archive-table kept"]),
    "restore-stopped": Scenario("restore last", [f"{_BATCHES} --batches 2"]),
    "restore-batches": Scenario(
        "restore last --batch 3", [f"{_ROWS} --dependents delete --batch 3"]
    ),
    "history": Scenario("history", []),
}  # fmt: skip


class Points:
    """One database, brought back to its start after every kill. `points` counts the kills."""

    def __init__(self, server: Server, folder: Path) -> None:
        self.server, self.folder = server, folder
        self.records = folder / "yeldro-runs"
        self.points = 0
        server.run(TABLES)
        for trigger in _TRIGGERS:
            server.run([made.format(*trigger) for made in _MADE[server.engine]])
        (folder / "steps.toml").write_text(STEPS)
        for path in (Path(__file__).parents[1] / "src" / "yeldro").rglob("*.py"):
            if "demo" not in path.parts and path.stem not in ("__main__", "__init__"):
                # Imported here, so that a killed command is killed at its work.
                name = ".".join(path.relative_to(Path(__file__).parents[1] / "src").parts)
                import_module(name.removesuffix(".py"))
        self.start = self.image()

    def image(self) -> dict[str, list[str]]:
        return {
            name: sorted(map(str, self.server.query(f"SELECT * FROM {name}"))) for name in NAMES
        }

    def try_all(self, name: str) -> int:
        """Kill one scenario at each of its points. Returns how many there were."""
        scenario, point = SCENARIOS[name], 0
        while True:
            point += 1
            for line in scenario.before:
                self.run(line)
            killed = self.run(scenario.line, point)
            self.check(f"{self.server.engine}: {name} killed at point {point}", scenario)
            if not killed:
                return point - 1
            self.points += 1

    def run(self, line: str, last: int = 0) -> bool:
        """Run a command in a process of its own, that kills itself before a point. Returns whether
        it did; AssertionError where it failed."""
        child = os.fork()
        if child == 0:
            said = os.open(self.folder / "said", os.O_WRONLY | os.O_CREAT | os.O_TRUNC)
            os.dup2(said, 1)
            os.dup2(said, 2)
            os.chdir(self.folder)
            verb, *words = (word.replace("_id", " id") for word in line.split())
            place = ["--db", self.server.place]
            agreed = ["--yes"] * (verb != "history")
            count_points(last)
            os._exit(run_command_line([verb, *words, *place, *agreed]))
        _, status = os.waitpid(child, 0)
        said_so = (line, last, (self.folder / "said").read_text())
        assert os.WIFSIGNALED(status) or os.waitstatus_to_exitcode(status) == 0, said_so
        query = SESSIONS.get(self.server.engine)
        while query and self.server.query(query) != [(0,)]:
            time.sleep(0.005)
        return os.WIFSIGNALED(status)

    def check(self, where: str, scenario: Scenario) -> None:
        """Nothing is lost, the record tells the truth, and everything can be taken back."""
        found = self.image()
        self.check_archived(found, where)
        outcome, restored = self.history()
        copied = "--no-archive" not in scenario.line
        # Only PostgreSQL tells of a transaction that took the tables of its copies with it.
        if "--archive-table" in scenario.line and outcome == "in-doubt":
            assert (self.server.engine != "postgresql", found) == (True, self.start), where
            shutil.rmtree(self.records)
            return
        # Without a copy nobody can tell.
        assert outcome not in ("in-doubt", "running") or not copied, (where, outcome)
        self.check_archived(found, where)
        if outcome in ("none", "rolled-back"):
            assert found == self.start, where
        elif outcome == "in-doubt":
            pass
        elif scenario.line.startswith("restore"):
            assert (restored == "yes") == (found == self.start), (where, restored)
        else:
            assert found != self.start or outcome == "stopped", (where, outcome)
        if outcome == "stopped" and not scenario.line.startswith("restore"):
            self.run("resume last")
            assert self.history()[0] == "committed", where
        if not copied:
            self.server.run("DELETE FROM marks", "DELETE FROM counts", *TABLES[-7:])
            self.server.run("UPDATE counts SET n = 6")
        elif outcome not in ("none", "rolled-back"):
            self.run("restore last --allow-trigger i")
            assert self.history()[1] == "yes", where
        assert self.image() == self.start, where
        self.server.run([f"DROP TABLE IF EXISTS kept_{name}" for name in NAMES])
        self.server.run("DROP TABLE IF EXISTS kept", "DELETE FROM gone")
        shutil.rmtree(self.records, ignore_errors=True)

    def check_archived(self, found: dict[str, list[str]], where: str) -> None:
        """Every row that is not as it was is in a finished archive."""
        if not self.records.exists() or "no-archive" in where or "table" in where:
            return
        kept: dict[str, set[int]] = {name: set() for name in KEYED}
        for path in self.records.glob("*/rows.sqlite"):
            with closing(sqlite3.connect(path)) as file:
                for name in ("weirs", "gates", "notes", "marks"):
                    with suppress(sqlite3.OperationalError):
                        kept[name] |= {
                            int(key) for (key,) in file.execute(f"SELECT id FROM {name}")
                        }
        for name in ("weirs", "gates", "notes", "marks"):
            lost = {*self.start[name]} - {*found[name]}
            keys = {int(row.strip("()").split(",")[0]) for row in lost}
            assert keys <= kept[name], (where, name, keys - kept[name])

    def history(self) -> tuple[str, str | None]:
        reading = self.folder / "history.json"
        with chdir(self.folder), reading.open("w") as file:
            saved, sys.stdout = sys.stdout, file
            try:
                line = ["history", "--format", "json", "--db", self.server.place]
                assert run_command_line(line) == 0
            finally:
                sys.stdout = saved
        runs = json.loads(reading.read_text())["runs"]
        return (runs[0]["outcome"], runs[0]["restored"]) if runs else ("none", None)


def count_points(last: int) -> None:
    """From now on this process kills itself before a statement or write to disk; 0: before none."""
    reached = 0

    def before(function: Callable[..., Any]) -> Callable[..., Any]:
        def then(*words: Any, **named: Any) -> Any:
            nonlocal reached
            reached += 1
            if reached == last:
                os.kill(os.getpid(), signal.SIGKILL)
            return function(*words, **named)

        return then

    class Cursor(sqlite3.Cursor):
        execute = before(sqlite3.Cursor.execute)
        executemany = before(sqlite3.Cursor.executemany)

    class Connection(sqlite3.Connection):
        execute = before(sqlite3.Connection.execute)
        executemany = before(sqlite3.Connection.executemany)
        executescript = before(sqlite3.Connection.executescript)

        def cursor(self, factory: Any = Cursor) -> Any:
            return super().cursor(factory)

    connect = sqlite3.connect
    sqlite3.connect = lambda *words, **named: connect(*words, **{"factory": Connection, **named})
    sqlite3.dbapi2.connect = sqlite3.connect
    for owner, name in (
        (psycopg.Cursor, "execute"),
        (psycopg.Cursor, "executemany"),
        (psycopg.Cursor, "copy"),
        (psycopg.Cursor, "stream"),
        (pymysql.connections.Connection, "_execute_command"),
        *((os, name) for name in ("fsync", "replace", "rename", "unlink", "mkdir", "open")),
    ):
        setattr(owner, name, before(getattr(owner, name)))


def main(words: Sequence[str]) -> None:
    engines = [word for word in words if word in ENGINES] or ENGINES
    names = [word for word in words if word in SCENARIOS] or SCENARIOS
    for engine in engines:
        with tempfile.TemporaryDirectory() as folder, served(engine, Path(folder)) as server:
            points = Points(server, Path(folder))
            for name in names:
                sys.stdout.write(f"{engine}: {name}, {points.try_all(name)} points\n")
                sys.stdout.flush()
            sys.stdout.write(
                f"{engine}: killed at {points.points:,} points of {len(names)} scenarios; nothing "
                "lost\n"
            )
