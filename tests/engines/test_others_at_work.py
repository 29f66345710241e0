"""A second connection at work meanwhile: the commit holds exactly the previewed rows, or nothing
happened."""

from __future__ import annotations

import sqlite3
import threading
import time
from collections.abc import Callable, Sequence
from contextlib import closing, suppress
from pathlib import Path

import pymysql
import pytest

from tests.engines.test_side_doors import TABLES, image
from tests.property.test_laws import Yes
from tests.servers import Server
from yeldro.core.database.abilities import Mode
from yeldro.core.database.connection import Database
from yeldro.core.model.schema import ReferentialAction, Undeclared
from yeldro.core.reach.request import Request
from yeldro.core.reach.rules import Rule, Rules
from yeldro.core.run.outcome import Outcome, RunResult
from yeldro.core.run.preview import Preview
from yeldro.core.selection.selection import Asked
from yeldro.errors import DatabaseFailed, Refused, UsageError, YeldroError
from yeldro.store.run_record import Keeping
from yeldro.usecases import run as running

MEANWHILE = [
    ("INSERT INTO gates VALUES (9, 2)", "(1 row added, 0 gone)"),
    ("INSERT INTO weirs VALUES (0, 'b', NULL, 1)", "1 row added"),
    ("DELETE FROM gates WHERE id = 1", "(0 rows added, 1 gone)"),
    ("UPDATE gates SET weir_id = 3 WHERE id = 1", "(0 rows added, 1 gone)"),
    ("UPDATE weirs SET name = 'z' WHERE id = 2", "gone)"),
    ("UPDATE weirs SET depth = 7 WHERE id = 2", ""),
    ("INSERT INTO notes VALUES (4, 4)", ""),
]


def run(
    server: Server,
    answers: Yes,
    prepare: Callable[[Database], None] = lambda _: None,
    wait: float = 2,
    rule: Rule = Rule.DECLARED,
    keeping: Keeping | None = None,
) -> RunResult:
    database = server.open(wait=wait)
    try:
        prepare(database)
        request = Request(Asked("weirs", where=("name IN ('a', 'b')",)), Rules(rule))
        return running.delete(database, request, running.Manner(), answers, keeping)
    except DatabaseFailed as error:  # before anything was shown
        return RunResult(Outcome.STOPPED, None, None, error.message, error.hint, error.status)
    finally:
        with suppress(YeldroError):
            database.close()


@pytest.mark.parametrize(("change", "reason"), MEANWHILE, ids=lambda value: str(value)[:40])
def test_between_preview_and_run(server: Server, change: str, reason: str) -> None:
    class Slow(Yes):
        def allow(self, previews: Sequence[Preview]) -> bool:
            server.run([change])
            self.state = image(server)
            return super().allow(previews)

    server.run(TABLES)
    answers = Slow()
    result = run(server, answers)
    assert reason in result.reason
    assert (result.outcome, result.status) == (
        (Outcome.STOPPED, 3) if reason else (Outcome.COMMITTED, 0)
    ), result
    assert (image(server) == answers.state) == bool(reason)


MOVED = "UPDATE gates SET weir_id = 3 WHERE id = 1"
DURING = [
    "INSERT INTO gates VALUES (9, 2)",
    "UPDATE gates SET weir_id = 1 WHERE id = 4",
    MOVED,
    "DELETE FROM gates WHERE id = 1",
    "UPDATE weirs SET name = 'z' WHERE id = 1",
    "INSERT INTO weirs VALUES (8, 'a', NULL, 1)",
]


@pytest.mark.parametrize("change", DURING)
@pytest.mark.parametrize("moment", ["extract", "find_effects", "delete", "force_checks", "detach"])
def test_inside_the_run(server: Server, tmp_path: Path, moment: str, change: str) -> None:
    """Others wait, fail, or change other rows; nothing of ours is half done and nothing points at
    nothing."""
    server.run(TABLES)
    others: list[threading.Thread] = []
    changed = []

    def interfere() -> None:
        with suppress(Exception), closing(server.connect()) as connection:
            cursor = connection.cursor()
            if server.engine == "sqlite":
                cursor.execute("PRAGMA foreign_keys = ON")
            cursor.execute(change)
            changed.append(cursor.rowcount)

    def prepare(database: Database) -> None:
        place = database.archive if moment == "extract" else database
        original = getattr(place, moment)

        def late(*arguments: object) -> object:
            if not others:
                others.append(threading.Thread(target=interfere))
                others[0].start()
                time.sleep(0.2)
            return original(*arguments)

        setattr(place, moment, late)

    rule = Rule.DETACH if moment == "detach" else Rule.DECLARED
    start = image(server)
    result = run(
        server,
        Yes(),
        prepare,
        rule=rule,
        keeping=Keeping(tmp_path, facts={"kind": "", "address": ""}),
    )
    others[0].join(20)
    state = image(server)
    weirs = {row[0] for row in state["weirs"]}
    assert [gate for gate in state["gates"] if gate[1] is not None and gate[1] not in weirs] == []
    if change == MOVED and changed == [1]:
        assert (1, 3) in state["gates"]
    if result.outcome is Outcome.COMMITTED:
        came = {9} if change == DURING[0] and changed == [1] else set()
        went = {1} if change == DURING[3] and changed == [1] else set()
        missing = (
            ({row[0] for row in start["gates"]} | came) - {row[0] for row in state["gates"]} - went
        )
        with closing(sqlite3.connect(next(tmp_path.glob("*/rows.sqlite")))) as archive:
            kept = {int(row[0]) for row in archive.execute("SELECT id FROM gates")}
        assert kept == missing or rule is Rule.DETACH
        assert weirs & {1, 2} == set()
        assert 3 in weirs
    else:
        assert result.status in (3, 5)
        assert {1, 2, 3} <= weirs


def test_a_lock_that_does_not_come(server: Server) -> None:
    server.run(TABLES)
    with closing(server.connect()) as other:
        cursor = other.cursor()
        cursor.execute("BEGIN IMMEDIATE" if server.engine == "sqlite" else "BEGIN")
        cursor.execute("UPDATE gates SET weir_id = 3 WHERE id = 1")
        start = time.monotonic()
        result = run(server, Yes(), wait=1)
        taken = time.monotonic() - start
        cursor.execute("ROLLBACK")
    assert (result.status, "lock" in result.reason) == (5, True), result.reason
    assert taken < 10
    assert len(image(server)["gates"]) == 4


KILL = {
    "postgresql": "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE application_name = 'yeldro'"
    " AND datname = current_database()",
    "mariadb": "SELECT concat('KILL ', id) FROM information_schema.processlist WHERE db = database()"
    " AND id <> connection_id()",
}


@pytest.mark.parametrize("moment", ["allow", "delete", "find_changes"])
def test_a_connection_that_is_cut(server: Server, moment: str) -> None:
    if server.engine == "sqlite":
        return
    server.run(TABLES)
    before = image(server)

    def cut() -> None:
        for row in server.query(KILL[server.engine]):
            if server.engine == "mariadb":
                with suppress(pymysql.err.OperationalError):  # it ended by itself meanwhile
                    server.run([row[0]])

    class Cut(Yes):
        def allow(self, previews: Sequence[Preview]) -> bool:
            if moment == "allow":
                cut()
            return super().allow(previews)

    def prepare(database: Database) -> None:
        original = getattr(database, moment, None)
        if original is not None:

            def late(*arguments: object) -> object:
                cut()
                return original(*arguments)

            setattr(database, moment, late)

    result = run(server, Cut(), prepare)
    assert (result.status, "connection" in result.reason) == (5, True), result.reason
    assert image(server) == before


def test_a_reference_that_is_not_declared_is_followed_and_checked(server: Server) -> None:
    server.run(TABLES)
    database = server.open()
    note = Undeclared("notes", ("weir",), "weirs", ("id",), ReferentialAction.CASCADE)
    database.schema = database.schema.with_references([note])
    request = Request(Asked("weirs", where=("id = 1",)))
    result = running.delete(database, request, running.Manner(), Yes())
    database.close()
    assert result.status == 0, result.reason
    assert [row[0] for row in image(server)["notes"]] == [2, 3]
    with pytest.raises(UsageError, match="not unique"):
        database.schema.with_references(
            [Undeclared("notes", ("weir",), "weirs", ("name",), ReferentialAction.CASCADE)]
        )


def test_several_statements_in_one_are_refused_by_the_server_itself(server: Server) -> None:
    server.run(TABLES)
    database = server.open()
    with pytest.raises(YeldroError):
        database.gate.run_text("DELETE FROM gates; DELETE FROM notes")  # type: ignore[attr-defined]  # past the parser
    database.close()
    assert len(image(server)["notes"]) == 3


@pytest.mark.parametrize("password", ["tell-nobody"])
def test_a_password_is_told_nowhere(server: Server, password: str) -> None:
    if server.engine == "sqlite":
        return
    place = server.place.replace("root@", f"root:{password}@").replace(
        "postgres@", f"postgres:{password}@"
    )
    other = Server(server.engine, place, server.quote)
    try:
        database = other.open()
        texts = [database.name, repr(database)]
        database.close()
    except YeldroError as error:
        texts = [error.message, error.hint, str(error.__cause__), str(error.__context__)]
    assert [text for text in texts if password in text] == []


def test_a_truncate_waits_for_others(server: Server) -> None:
    """A row that was added after the counts, or is not committed yet, must not go unseen."""
    server.run(TABLES)
    with closing(server.connect()) as other:
        cursor = other.cursor()
        cursor.execute("BEGIN IMMEDIATE" if server.engine == "sqlite" else "BEGIN")
        cursor.execute("INSERT INTO notes VALUES (9, 1)")
        threading.Timer(0.6, other.commit if server.engine != "sqlite" else lambda: None).start()
        database = server.open(wait=5 if server.engine != "sqlite" else 0.3)
        request = Request(Asked("notes", all_rows=True, truncate=True))
        try:
            result = running.delete(database, request, running.Manner(ask_first=False), Yes())
        except YeldroError as error:
            result = RunResult(Outcome.STOPPED, None, None, error.message, error.hint, error.status)
        database.close()
        time.sleep(0.5)
    if server.engine == "sqlite":
        assert "locked" in result.reason
    else:
        assert result.tally is not None
        assert [(line.before, line.deleted, line.after) for line in result.tally.lines] == [
            (4, 4, 0)
        ]


def test_a_temporary_table_of_the_same_name_is_not_meant(server: Server) -> None:
    if server.engine == "mariadb":
        return  # there such a table hides the real one under its full name too, so Yeldro's own have names of their own
    server.run(TABLES)

    def hide(database: Database) -> None:
        run_text = database.gate.run_text  # type: ignore[attr-defined]
        run_text("CREATE TEMP TABLE gates AS SELECT 1 AS id, 77 AS weir_id")
        run_text("CREATE TEMP TABLE weirs AS SELECT 1 AS id, 'a' AS name")

    assert run(server, Yes(), hide).outcome is Outcome.COMMITTED
    state = image(server)
    assert ([row[0] for row in state["weirs"]], [row[0] for row in state["gates"]]) == ([3], [4])


@pytest.mark.long
def test_two_runs_of_one_cleanup_exclude_each_other(server: Server) -> None:
    with closing(server.open()) as first, closing(server.open()) as second:
        first.exclude("yeldro run a.toml")
        if server.engine == "sqlite":  # only one can write at a time, whatever it runs
            first.begin(Mode.WRITE)
        else:
            second.exclude("yeldro run b.toml")
        with pytest.raises(Refused, match="nother run of this cleanup"):
            second.exclude("yeldro run a.toml")
        first.close()
        second.exclude("yeldro run a.toml")
