"""The record of a run in batches, whatever happens to the run, to its rows and to the record."""

from __future__ import annotations

import json
import os
import sqlite3
import subprocess
import sys
from collections.abc import Sequence
from contextlib import closing
from pathlib import Path

import pytest

from tests.conftest import Result, Yeldro
from tests.servers import Server, rows

WEIRS = [
    "CREATE TABLE weirs (id INTEGER PRIMARY KEY, depth INTEGER)",
    *[f"INSERT INTO weirs VALUES ({n}, {n})" for n in range(1, 9)],
]
LINE = ["delete", "weirs", "--where", "depth > 0", "--all-rows", "--yes"]
# Runs a command line and dies before, or after, a method of a class for the so-manieth time.
KILLED = """
import importlib, os, sys
place, method, times, when, *line = sys.argv[1:]
module, _, kind = place.rpartition(".")
owner, left = getattr(importlib.import_module(module), kind), int(times)
work = getattr(owner, method)
def die(*arguments, **named):
    global left
    left -= 1
    if not left and when == "before":
        os._exit(9)
    found = work(*arguments, **named)
    if not left:
        os._exit(9)
    return found
setattr(owner, method, die)
from yeldro.cli.command_line import run_command_line
sys.exit(run_command_line(line))
"""


def kill(folder: Path, place: str, method: str, times: int, when: str, line: Sequence[str]) -> None:
    words = [sys.executable, "-c", KILLED, place, method, str(times), when, *line]
    died = subprocess.run(words, cwd=folder, env=dict(os.environ), capture_output=True)
    assert died.returncode == 9, died


def kill_at_commit(folder: Path, server: Server, times: int, line: Sequence[str]) -> None:
    """Right after the database has committed, before anybody writes it down."""
    engine = server.engine
    place = f"yeldro.engines.{engine}.connection.{engine.title()}Database"
    kill(folder, place, "commit", times, "after", line)


def ids(server: Server, table: str = "weirs") -> list[object]:
    return [row[0] for row in server.query(f"SELECT id FROM {table} ORDER BY id")]


def record(folder: Path) -> Path:
    (found,) = (folder / "yeldro-runs").iterdir()
    return found


def count_commits(server: Server) -> int:
    """How many transactions end with a commit before the first batch: an engine commits a look."""
    return {"sqlite": 1, "postgresql": 0, "mariadb": 1}[server.engine]


def good(result: Result, *words: str) -> Result:
    assert result.status == 0, result
    for word in words:
        assert word in result.out, result
    return result


@pytest.mark.parametrize("sign", ["\u2028", "\u2029", "\u0085", "\r", "\x0b", "\x1c"])
def test_a_key_may_hold_what_looks_like_the_end_of_a_line(
    yeldro: Yeldro, server: Server, sign: str
) -> None:
    server.run("CREATE TABLE weirs (id VARCHAR(20) PRIMARY KEY, depth INTEGER)")
    if server.engine == "mariadb":
        server.run("ALTER TABLE weirs CONVERT TO CHARACTER SET utf8mb4")
    names = ["a", f"b{sign}x", "c", "d"]
    server.run([f"INSERT INTO weirs VALUES ('{name}', 1)" for name in names])
    before = rows(server, "weirs")
    good(yeldro(*LINE, "--batch", "1", "--batches", "3"))
    good(yeldro("history"), "1 run in")
    good(yeldro("resume", "last", "--yes"))
    good(yeldro("restore", "last", "--yes"))
    assert rows(server, "weirs") == before


def test_a_row_under_the_same_key_proves_nothing(
    yeldro: Yeldro, server: Server, tmp_path: Path
) -> None:
    server.run(WEIRS)
    kill_at_commit(tmp_path, server, 1 + count_commits(server), [*LINE, "--batch", "1"])
    assert ids(server) == [2, 3, 4, 5, 6, 7, 8]
    server.run("INSERT INTO weirs VALUES (1, 100)")
    shown = yeldro("history", "last")
    archive = record(tmp_path) / "rows.sqlite"
    with closing(sqlite3.connect(archive)) as file:
        assert [tuple(map(str, row)) for row in file.execute("SELECT * FROM weirs")] == [("1", "1")]
    if server.engine == "postgresql":  # the server tells by the number of the transaction
        assert "stopped" in shown.out, shown
        return
    assert "others with the same keys" in shown.err, shown
    assert yeldro("resume", "last", "--yes").status == 3
    assert yeldro("restore", "last", "--yes").status == 3
    server.run("DELETE FROM weirs WHERE id = 1")
    good(yeldro("restore", "last", "--yes"))
    assert ids(server) == [1, 2, 3, 4, 5, 6, 7, 8]


def test_the_copy_of_a_committed_batch_stays_after_attempts_that_failed(
    yeldro: Yeldro, server: Server, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """COMMITs that fail, then a crash between a COMMIT and the line that says so."""
    from yeldro.engines.shared.connection import SqlDatabase
    from yeldro.errors import NotCommitted
    from yeldro.usecases.pacing import Pacing

    server.run(WEIRS)
    good(yeldro(*LINE, "--batch", "2", "--batches", "1"))
    commit = SqlDatabase.commit

    def fail(database: SqlDatabase) -> None:
        if database.mode is not None and database.mode.name == "WRITE":
            database.rollback()
            raise NotCommitted("The database did not commit.")
        commit(database)

    with monkeypatch.context() as patched:
        patched.setattr(SqlDatabase, "commit", fail)
        patched.setattr(Pacing, "rest", lambda _: True)
        assert yeldro("resume", "last", "--yes").status == 5
    assert ids(server) == [3, 4, 5, 6, 7, 8]
    kill_at_commit(tmp_path, server, 1 + count_commits(server), ["resume", "last", "--yes"])
    assert ids(server) == [5, 6, 7, 8]
    good(yeldro("history", "last"), "2 batches")
    numbers = [json.loads(line)["attempt"] for line in _journal(tmp_path)]
    assert numbers == sorted(numbers), "a number is never used again"
    good(yeldro("restore", "last", "--yes"))
    assert ids(server) == [1, 2, 3, 4, 5, 6, 7, 8]


def _journal(folder: Path) -> list[bytes]:
    return (record(folder) / "batches.jsonl").read_bytes().splitlines()


KEYLESS = [
    "CREATE TABLE weirs (id INTEGER PRIMARY KEY, depth INTEGER)",
    "CREATE TABLE marks (a INTEGER, weir_id INTEGER, "
    "FOREIGN KEY (weir_id) REFERENCES weirs (id) ON DELETE {})",
    *[f"INSERT INTO weirs VALUES ({n}, {n % 7})" for n in range(1, 9)],
    *[f"INSERT INTO marks VALUES ({n % 3}, {n})" for n in range(1, 9)],
    *[f"INSERT INTO marks VALUES ({n % 3}, {n})" for n in range(1, 9, 2)],
]


@pytest.mark.parametrize("rule", ["CASCADE", "SET NULL"])
@pytest.mark.parametrize("size", ["2", "5", "100"])
@pytest.mark.parametrize("way", ["whole", "batches"])
def test_rows_without_a_key_come_back_from_many_batches(
    yeldro: Yeldro, server: Server, rule: str, size: str, way: str
) -> None:
    server.run([text.format(rule) for text in KEYLESS])
    before = rows(server, "weirs", "marks")
    if (server.engine, rule) == ("mariadb", "SET NULL"):
        refused = yeldro(*LINE, "--batch", size)
        assert (refused.status, "nothing tells them apart" in refused.err) == (2, True), refused
        return
    good(yeldro(*LINE, "--batch", size))
    assert len(ids(server)) == 1
    words = [] if way == "whole" else ["--batch", "4"]
    good(yeldro("restore", "last", "--yes", *words))
    assert rows(server, "weirs", "marks") == before
    good(yeldro("restore", "last", "--yes"), "nothing to restore")


@pytest.mark.parametrize("how", ["lock", "kill"])
def test_a_table_that_is_new_to_the_archive_when_its_batch_is_undone(
    yeldro: Yeldro, server: Server, tmp_path: Path, how: str
) -> None:
    server.run(
        WEIRS,
        "CREATE TABLE gates (id INTEGER PRIMARY KEY, weir_id INTEGER, "
        "FOREIGN KEY (weir_id) REFERENCES weirs (id) ON DELETE CASCADE)",
        "INSERT INTO gates VALUES (1, 3)",
    )
    before = rows(server, "weirs", "gates")
    line = [*LINE, "--batch", "1", "--wait", "1"]
    if how == "kill":
        place = "yeldro.usecases.batch_keeper.BatchKeeper"
        kill(tmp_path, place, "commit_batch", 3, "before", line)
    elif server.engine == "sqlite":
        return  # nobody else holds a row there
    else:
        with closing(server.connect()) as other:
            other.cursor().execute("BEGIN")
            other.cursor().execute("SELECT * FROM gates FOR UPDATE")
            assert yeldro(*line).status == 5
    assert len(ids(server)) == 6
    good(yeldro("resume", "last", "--yes"))
    assert ids(server) == []
    good(yeldro("restore", "last", "--yes"))
    assert rows(server, "weirs", "gates") == before


def test_a_column_that_comes_between_a_stop_and_a_resume(yeldro: Yeldro, server: Server) -> None:
    server.run(WEIRS)
    good(yeldro(*LINE, "--batch", "2", "--batches", "2"))
    server.run("ALTER TABLE weirs ADD COLUMN note VARCHAR(20)", "UPDATE weirs SET note = 'dear'")
    before = rows(server, "weirs")
    stopped = yeldro("resume", "last", "--yes")
    assert (stopped.status, "Column note was added to weirs" in stopped.err) == (3, True), stopped
    good(yeldro("resume", "last", "--yes", "--anew"), "Column note was added to weirs")
    assert ids(server) == []
    good(yeldro("restore", "last", "--yes"))
    back = rows(server, "weirs")[0]
    assert [row for row in back if row[0] > 4] == before[0]
    assert [row for row in back if row[0] <= 4] == [(n, n, None) for n in range(1, 5)]


def test_a_column_that_is_gone_is_left_out(yeldro: Yeldro, server: Server) -> None:
    server.run(
        "CREATE TABLE weirs (id INTEGER PRIMARY KEY, note VARCHAR(20), depth INTEGER)",
        "INSERT INTO weirs VALUES (1, 'a', 7), (2, 'b', 8), (3, 'c', 9)",
    )
    good(yeldro(*LINE, "--batch", "2"))
    server.run("ALTER TABLE weirs DROP COLUMN note")
    stopped = yeldro("restore", "last", "--yes")
    assert (stopped.status, "--leave-out weirs.note" in stopped.err) == (3, True), stopped
    assert yeldro("restore", "last", "--yes", "--leave-out", "id").status == 2
    assert yeldro("restore", "last", "--yes", "--leave-out", "nothing").status == 2
    good(yeldro("restore", "last", "--yes", "--leave-out", "note"))
    assert rows(server, "weirs") == [[(1, 7), (2, 8), (3, 9)]]


def test_groups_in_doubt_are_settled_by_their_rows(
    yeldro: Yeldro, server: Server, tmp_path: Path
) -> None:
    server.run(
        "CREATE TABLE gates (id INTEGER PRIMARY KEY, name VARCHAR(9))",
        *[f"INSERT INTO gates VALUES ({n}, 'g{(n + 2) // 3}')" for n in range(1, 25)],
    )
    line = ["dedupe", "gates", "--same", "name", "--keep", "fullest", "--batch", "2"]
    line += ["--no-archive", "--yes"]
    kill_at_commit(tmp_path, server, 3 + count_commits(server), line)
    assert len(ids(server, "gates")) == 18
    good(yeldro("history", "last"), "3 batches")
    good(yeldro("resume", "last", "--yes"), "24", "yes")
    assert len(ids(server, "gates")) == 8


FILE = """
title = "Weirs"
[[steps]]
name  = "deep"
delete = "weirs"
where = "depth > 1"
batch = 2
"""


def test_a_resumed_run_goes_on_as_it_was_asked_for(
    yeldro: Yeldro, server: Server, tmp_path: Path
) -> None:
    server.run(WEIRS)
    (tmp_path / "weirs.toml").write_text(FILE)
    line = ["run", "weirs.toml", "--even-if-changed", "--recount", "--batches", "1", "--yes"]
    good(yeldro(*line))
    server.run("UPDATE weirs SET depth = 0 WHERE id IN (5, 8)")
    good(yeldro("resume", "last", "--yes"))
    assert ids(server) == [1]
    done = [json.loads(line) for line in _journal(tmp_path)]
    assert not any(one["by_engine"] for line in done for one in line.get("tally", ()))


@pytest.mark.parametrize("line", ["delete 'par", "yeldro delete --help", "yeldro drop x", ""])
def test_the_line_of_a_record_is_only_shown(
    yeldro: Yeldro, server: Server, tmp_path: Path, line: str
) -> None:
    server.run(WEIRS)
    good(yeldro(*LINE, "--batch", "2", "--batches", "1"))
    path = record(tmp_path) / "run.json"
    path.write_text(json.dumps({**json.loads(path.read_text()), "asked": line}))
    refused = yeldro("resume", "last", "--yes")
    assert (refused.status, "run.json was changed" in refused.err) == (3, True)
    good(yeldro("resume", "last", "--yes", "--even-if-altered"))
    assert ids(server) == []
    good(yeldro("history", "last"))
    assert yeldro("history", "--verify").status == 3, "nobody vouches for it again"


def _swap_keys(folder: Path) -> None:
    with closing(sqlite3.connect(folder / "keys.sqlite")) as file:
        file.execute("UPDATE yeldro_portions SET source_table = 'gates'")
        file.commit()


def _add_trigger(folder: Path) -> None:
    with closing(sqlite3.connect(folder / "rows.sqlite")) as file:
        file.execute(
            "CREATE TRIGGER t AFTER INSERT ON yeldro_portions BEGIN DELETE FROM yeldro_blocks; END"
        )
        file.commit()


def _drop_journal(folder: Path) -> None:
    (folder / "batches.jsonl").unlink()


def _cut_journal(folder: Path) -> None:
    path = folder / "batches.jsonl"
    path.write_bytes(b"\n".join(path.read_bytes().split(b"\n")[:3]) + b"\n")


ALTERED = {
    "keys": (_swap_keys, "it holds keys of gates"),
    "trigger": (_add_trigger, "is none of ours"),
    "journal": (_drop_journal, ""),
    "lines": (_cut_journal, ""),
}


@pytest.mark.parametrize("what", ALTERED)
def test_an_altered_record_is_neither_gone_on_with_nor_restored_from(
    yeldro: Yeldro, server: Server, tmp_path: Path, what: str
) -> None:
    server.run(WEIRS, "CREATE TABLE gates (id INTEGER PRIMARY KEY)")
    good(yeldro(*LINE, "--batch", "2", "--batches", "3"))
    alter, word = ALTERED[what]
    alter(record(tmp_path))
    for command in ("resume", "restore"):
        refused = yeldro(command, "last", "--yes")
        assert (refused.status, "not as its run left it" in refused.err) == (3, True), refused
        assert ids(server) == [7, 8]
    if word:
        still = yeldro("resume", "last", "--yes", "--even-if-altered")
        assert (still.status != 0, word in still.err) == (True, True), still
        assert ids(server) == [7, 8]
    else:
        good(yeldro("restore", "last", "--yes", "--even-if-altered"))
        assert ids(server) == [1, 2, 3, 4, 5, 6, 7, 8]


@pytest.mark.parametrize("alter", [_drop_journal, _cut_journal])
def test_what_a_killed_run_copied_stays_whatever_its_journal_says(
    yeldro: Yeldro, server: Server, tmp_path: Path, alter: object
) -> None:
    server.run(WEIRS)
    kill_at_commit(tmp_path, server, 3 + count_commits(server), [*LINE, "--batch", "2"])
    assert ids(server) == [7, 8]
    assert callable(alter)
    alter(record(tmp_path))
    yeldro("history", "last")
    assert yeldro("restore", "last", "--yes").status == 3
    good(yeldro("restore", "last", "--yes", "--even-if-altered"))
    assert ids(server) == [1, 2, 3, 4, 5, 6, 7, 8]


def test_nobody_restores_what_somebody_goes_on_with(
    yeldro: Yeldro, server: Server, tmp_path: Path
) -> None:
    from yeldro.store.run_record import read_record

    server.run(WEIRS)
    good(yeldro(*LINE, "--batch", "2", "--batches", "1"))
    held = read_record(record(tmp_path))
    held.hold()
    for command in ("restore", "resume"):
        refused = yeldro(command, "last", "--yes")
        assert (refused.status, "under way" in refused.err) == (3, True), refused
    held.close()
    good(yeldro("restore", "last", "--yes"))
