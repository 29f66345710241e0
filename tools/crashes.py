"""A command killed with SIGKILL at a random point, and what must be true afterwards."""

from __future__ import annotations

import json
import os
import random
import shutil
import signal
import sqlite3
import sys
import time
from collections import Counter
from contextlib import chdir, closing, suppress
from importlib import import_module
from pathlib import Path
from types import FrameType
from typing import Any

from tests.servers import Server

from yeldro.cli.command_line import run_command_line

TABLES = [
    "CREATE TABLE weirs (id INTEGER PRIMARY KEY, name VARCHAR(20), gate_id INTEGER)",
    "CREATE TABLE gates (id INTEGER PRIMARY KEY, weir_id INTEGER NOT NULL, FOREIGN KEY (weir_id) "
    "REFERENCES weirs (id))",
    "CREATE TABLE notes (id INTEGER PRIMARY KEY, gate_id INTEGER, FOREIGN KEY (gate_id) REFERENCES "
    "gates (id))",
    *(f"INSERT INTO weirs VALUES ({n}, 'weir {n}', NULL)" for n in range(1, 9)),
    *(f"INSERT INTO gates VALUES ({n}, {n % 8 + 1})" for n in range(1, 33)),
    *(f"INSERT INTO notes VALUES ({n}, {n % 32 + 1})" for n in range(1, 65)),
]
NAMES = ("weirs", "gates", "notes")
GONE = {
    "delete": {"weirs": 4, "gates": 16},
    "dedupe": {"weirs": 4},
    "run": {"weirs": 4, "gates": 8},
    "clear": {},
}
STEPS = """
[[steps]]
name = "first"
delete = "weirs"
where = "id < 3"
dependents = { gates = "delete", notes = "detach" }
[[steps]]
name = "second"
dedupe = "weirs"
same = "id % 4"
keep = "highest id"
"""
DANGLING = (
    "SELECT count(*) FROM gates WHERE weir_id NOT IN (SELECT id FROM weirs)",
    "SELECT count(*) FROM notes WHERE gate_id NOT IN (SELECT id FROM gates)",
)
SESSIONS = {
    "postgresql": "SELECT count(*) FROM pg_stat_activity"
    " WHERE application_name = 'yeldro' AND datname = current_database()",
    "mariadb": "SELECT count(*) FROM information_schema.PROCESSLIST WHERE DB = DATABASE() AND ID "
    "<> CONNECTION_ID()",
}


ALL = ["--dependents", "gates=delete", "--dependents", "notes=delete"]


class Crashes:
    """One database that is brought back to its start after every kill. `told` counts what history
    said."""

    def __init__(self, server: Server, folder: Path, seed: int) -> None:
        self.server = server
        self.folder = folder
        self.random = random.Random(seed)
        self.told: Counter[str] = Counter()
        server.run(TABLES)
        self.start = self.image()
        place = ["--db", server.place, "--yes"]
        rules = ["--dependents", "gates=delete", "--dependents", "notes=detach"]
        same = [
            "--same",
            "id % 4",
            "--keep",
            "highest id",
        ]  # the same four of weirs go; their gates move
        self.commands = {
            "delete": ["delete", "weirs", "--where", "id < 5", *rules, *place],
            "dedupe": ["dedupe", "weirs", *same, *place],
            "run": ["run", "steps.toml", *place],
            "clear": ["clear", "weirs", "--where", "id < 5", "--columns", "name", *place],
            "restore": ["restore", "last", *place],
            # One weir with what depends on it in each.
            "batches": ["delete", "weirs", "--where", "id < 5", *rules, "--batch", "14", *place],
            "resume": ["resume", "last", *place],
            # Without rows that stay and are changed, so that it comes back in batches, too.
            "gone": ["delete", "weirs", "--where", "id < 5", *ALL, "--batch", "14", *place],
            "back": ["restore", "last", "--batch", "14", *place],
        }
        (folder / "steps.toml").write_text(STEPS)
        # What a command imports is imported here, so that a killed one is killed at its work.
        for name in ("restore", "history", "delete", "clear", "dedupe", "run", "resume"):
            import_module(f"yeldro.cli.commands.{name}")
        import_module("yeldro.usecases.restore")
        import_module("yeldro.cli.run_cleanup")
        import_module("yeldro.cli.resume")
        import_module("yeldro.usecases.batches")
        import_module("yeldro.usecases.restore_batches")
        server.open().close()
        # Once through all, to learn how many calls they make.
        self.calls: dict[str, int] = {}
        works = ("delete", "dedupe", "run", "batches", "clear")
        for name in (*(name for work in works for name in (work, "restore")), "gone", "back"):
            self.calls[name] = self.run(name, -1)
        assert self.image() == self.start
        shutil.rmtree(folder / "yeldro-runs")

    def image(self) -> dict[str, list[tuple[Any, ...]]]:
        return {name: self.server.query(f"SELECT * FROM {name} ORDER BY id") for name in NAMES}

    def run(self, name: str, last: int) -> int:
        """Run a command in a process of its own that kills itself at the call number `last`; -1:
        never.

        Returns how many calls it made.
        """
        reading, writing = os.pipe()
        child = os.fork()
        if child == 0:
            os.close(reading)
            quiet = os.open(os.devnull, os.O_WRONLY)
            os.dup2(quiet, 1)
            os.dup2(quiet, 2)
            calls = 0

            def count(_: FrameType, __: str, ___: Any) -> None:
                nonlocal calls
                calls += 1
                if calls == last:
                    os.kill(os.getpid(), signal.SIGKILL)

            os.chdir(self.folder)
            sys.setprofile(count)
            status = run_command_line(self.commands[name])
            sys.setprofile(None)
            os.write(writing, str(calls).encode())
            os._exit(status)
        os.close(writing)
        if last == 0:  # a kill from outside, in the middle of whatever the process waits for
            time.sleep(self.random.uniform(0, 0.25))
            os.kill(child, signal.SIGKILL)
        with os.fdopen(reading, "rb") as pipe:
            text = pipe.read()
        _, status = os.waitpid(child, 0)
        assert os.WIFSIGNALED(status) or os.waitstatus_to_exitcode(status) == 0, (name, status)
        self.await_server()
        return int(text or 0)

    def await_server(self) -> None:
        """A server finds out after a while that its client is gone."""
        query = SESSIONS.get(self.server.engine)
        for _ in range(3000):
            if query is None or self.server.query(query) == [(0,)]:
                return
            time.sleep(0.02)
        raise AssertionError("the server holds on to a killed session")

    def kill(self, kind: str) -> None:
        """Kill one command, then look at everything that was promised."""
        records = self.folder / "yeldro-runs"
        work = kind if kind != "restore" else self.random.choice(list(GONE))
        if kind == "restore":
            self.run(work, -1)
        last = 0 if self.random.random() < 0.25 else self.random.randint(1, self.calls[kind])
        self.run(kind, last)
        where = f"{self.server.engine} {kind} killed at call {last} of {self.calls[kind]}"
        found = self.image()
        assert [self.server.query(query) for query in DANGLING] == [[(0,)], [(0,)]], where
        gone = {
            name: {row[0] for row in self.start[name]} - {row[0] for row in found[name]}
            for name in NAMES
        }
        assert {name: len(keys) for name, keys in gone.items() if keys} in ({}, GONE[work]), where
        for name in NAMES:
            changed = {row[0] for row in {*self.start[name]} - {*found[name]}}
            assert changed <= self.archived(records, name), where
        outcome = self.history()
        self.told[f"{kind}: {outcome[0]}"] += 1
        if kind != "restore":
            assert outcome[0] == (
                "committed" if found != self.start else outcome[0].replace("committed", "wrong")
            ), where
        else:
            assert outcome == ("committed", None if found != self.start else "yes"), where
        if records.exists() and outcome[0] != "none":
            assert self.run("restore", -1), where
        assert self.image() == self.start, where
        shutil.rmtree(records, ignore_errors=True)

    def kill_batches(self) -> None:
        """Kill a run in batches, and go on with it, and kill that, until it is done."""
        command, outcome = "batches", "none"
        while outcome in ("none", "stopped", "rolled-back"):
            last = (
                0 if self.random.random() < 0.25 else self.random.randint(1, self.calls["batches"])
            )
            self.run(command, last)
            where = f"{self.server.engine} {command} killed at call {last}"
            found = self.image()
            assert [self.server.query(query) for query in DANGLING] == [[(0,)], [(0,)]], where
            weirs, gates = (len(self.start[name]) - len(found[name]) for name in NAMES[:2])
            assert (weirs <= 4, gates) == (True, 4 * weirs), where
            outcome = self.history()[0]
            self.told[f"{command}: {outcome}"] += 1
            for name in NAMES:
                changed = {row[0] for row in {*self.start[name]} - {*found[name]}}
                assert changed <= self.archived(self.folder / "yeldro-runs", name), where
            assert (outcome in ("none", "rolled-back")) == (weirs == 0), (where, outcome)
            command = "resume" if outcome == "stopped" else "batches"
        assert (outcome, weirs) == ("committed", 4), where
        assert self.run("restore", -1), where
        assert self.image() == self.start, where
        shutil.rmtree(self.folder / "yeldro-runs")

    def kill_restoring(self) -> None:
        """Kill a restoration in batches, and the next one, until everything is back."""
        records = self.folder / "yeldro-runs"
        self.run("gone", -1)
        while self.image() != self.start:
            last = 0 if self.random.random() < 0.25 else self.random.randint(1, self.calls["back"])
            self.run("back", last)
            where = f"{self.server.engine} restore in batches killed at call {last}"
            found = self.image()
            assert [self.server.query(query) for query in DANGLING] == [[(0,)], [(0,)]], where
            for name in NAMES:
                changed = {row[0] for row in {*self.start[name]} - {*found[name]}}
                assert changed <= self.archived(records, name), where
            outcome, restored = self.history()
            self.told[f"restore in batches: {restored}"] += 1
            assert outcome == "committed", where
            known = {"yes"} if found == self.start else {None, "partly"}
            assert restored in known | {"partly"}, where
        assert self.run("back", -1), where
        assert self.image() == self.start, where
        shutil.rmtree(records)

    def archived(self, records: Path, name: str) -> set[int]:
        found: set[int] = set()
        for path in records.glob("*/rows.sqlite"):
            with closing(sqlite3.connect(path)) as archive, suppress(sqlite3.OperationalError):
                if archive.execute("SELECT complete FROM yeldro_archive").fetchone() == (1,):
                    found |= {int(key) for (key,) in archive.execute(f"SELECT id FROM {name}")}
        return found

    def history(self) -> tuple[str, str | None]:
        reading = self.folder / "history.json"
        with chdir(self.folder), reading.open("w") as file:
            saved, sys.stdout = sys.stdout, file
            try:
                assert (
                    run_command_line(["history", "--format", "json", "--db", self.server.place])
                    == 0
                )
            finally:
                sys.stdout = saved
        runs = json.loads(reading.read_text())["runs"]
        return (runs[0]["outcome"], runs[0]["restored"]) if runs else ("none", None)
