"""Batches wait for a standby of PostgreSQL that falls behind, and stop where that cannot be told."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import threading
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from tests.clusters import POOLER, Pooler, Postgresql, find_programs, standby_pair
from tests.conftest import Yeldro

pytestmark = pytest.mark.skipif(
    find_programs() is None and not os.environ.get("CI"),
    reason="the programs of a PostgreSQL server are not installed",
)
ROWS = 400
PAUSE, GO_ON = "SELECT pg_wal_replay_pause()", "SELECT pg_wal_replay_resume()"
LINE = ["delete", "levels", "--all-rows", "--batch", "20", "--no-archive", "--yes"]


@pytest.fixture(scope="module")
def pair() -> Iterator[tuple[Postgresql, Postgresql]]:
    with standby_pair() as nodes:
        yield nodes


@pytest.fixture
def primary(pair: tuple[Postgresql, Postgresql]) -> Postgresql:
    """With some rows, which its standby has too."""
    node = pair[0]
    for statement in (
        "DROP TABLE IF EXISTS levels",
        "CREATE TABLE levels (id int PRIMARY KEY, note text)",
        f"INSERT INTO levels SELECT n, 'as read' FROM generate_series(1, {ROWS}) AS n",
    ):
        node.query(statement)
    _catch_up(node)
    return node


def _catch_up(node: Postgresql) -> None:
    behind = "SELECT count(*) FROM pg_stat_replication WHERE replay_lsn = pg_current_wal_lsn()"
    end = time.monotonic() + 20
    while node.query(behind) != [(1,)]:
        assert time.monotonic() < end
        time.sleep(0.05)


def _left(node: Postgresql) -> int:
    return int(node.query("SELECT count(*) FROM levels")[0][0])


def _watch(folder: Path, primary: Postgresql, *watched: str) -> None:
    """Name the primary in yeldro.toml, with what is watched beside it."""
    urls = ", ".join(f'"{one}"' for one in watched)
    (folder / "yeldro.toml").write_text(
        f'default = "live"\n[databases.live]\nurl = "{primary.url}"\nwatch = [{urls}]\n'
    )


@pytest.mark.parametrize("is_watched", [False, True])
def test_a_run_waits_for_a_standby_that_is_behind(
    pair: tuple[Postgresql, Postgresql],
    primary: Postgresql,
    yeldro: Yeldro,
    tmp_path: Path,
    is_watched: bool,
) -> None:
    standby = pair[1]
    _watch(tmp_path, primary, *([standby.url] if is_watched else []))
    standby.query(PAUSE)
    try:
        stopped = yeldro(*LINE, "--behind", "0.5", "--pause", "0.1", "--for", "3s")
    finally:
        standby.query(GO_ON)
    assert (stopped.status, "The time for it is over" in stopped.out + stopped.err) == (0, True)
    left = _left(primary)
    assert 0 < left < ROWS  # those that fit into half a second
    _catch_up(primary)
    ended = yeldro("resume", "last", "--yes", "--behind", "5")
    assert (ended.status, _left(primary)) == (0, 0), ended.err


def test_it_goes_on_when_the_standby_has_caught_up(
    pair: tuple[Postgresql, Postgresql], primary: Postgresql, yeldro: Yeldro, tmp_path: Path
) -> None:
    _watch(tmp_path, primary)
    pair[1].query(PAUSE)
    threading.Timer(2, pair[1].query, [GO_ON]).start()
    began = time.monotonic()
    ended = yeldro(*LINE, "--behind", "0.5", "--pause", "0.1")
    assert (ended.status, _left(primary)) == (0, 0), ended.err
    assert time.monotonic() - began > 1.5


@pytest.mark.parametrize(
    ("user", "watch", "reason"),
    [
        ("postgres", "postgresql://postgres@127.0.0.1:1/postgres", "it cannot be reached"),
        ("postgres", "primary", "it is not a standby"),
        ("yt_cleaner", "", "this account may not see it: grant pg_monitor"),
        ("slot", "", "nobody is connected to it"),
    ],
)
def test_what_cannot_be_told_stops(
    primary: Postgresql, yeldro: Yeldro, tmp_path: Path, user: str, watch: str, reason: str
) -> None:
    _watch(tmp_path, primary, *([watch.replace("primary", primary.url)] if watch else []))
    if user == "slot":
        primary.query("SELECT pg_create_physical_replication_slot('left_over', true)")
    elif user != "postgres":
        primary.query("DROP ROLE IF EXISTS yt_cleaner")
        primary.query("CREATE ROLE yt_cleaner LOGIN")
        primary.query("GRANT SELECT, UPDATE, DELETE ON levels TO yt_cleaner")
        text = (tmp_path / "yeldro.toml").read_text()
        (tmp_path / "yeldro.toml").write_text(text.replace("postgres@", "yt_cleaner@"))
    try:
        stopped = yeldro(*LINE, "--behind", "5")
    finally:
        if user == "slot":
            primary.query("SELECT pg_drop_replication_slot('left_over')")
    assert _left(primary) == ROWS
    assert reason in stopped.out + stopped.err
    assert "cannot be told" in stopped.out + stopped.err


def test_a_standby_that_goes_away_stops(
    pair: tuple[Postgresql, Postgresql], primary: Postgresql, yeldro: Yeldro, tmp_path: Path
) -> None:
    """The committed batches stay, and the rest goes when it is back."""
    _watch(tmp_path, primary)
    standby = pair[1]
    ending = threading.Timer(1, standby.stop, [signal.SIGINT])
    ending.start()
    try:
        stopped = yeldro(*LINE, "--behind", "60", "--pause", "0.3")
        assert "it is not connected any more" in stopped.out + stopped.err
        assert 0 < _left(primary) < ROWS
    finally:
        ending.join()
        standby.start("fsync=off", "hot_standby_feedback=on")
    _catch_up(primary)
    ended = yeldro("resume", "last", "--yes")
    assert (ended.status, _left(primary)) == (0, 0), ended.err


@pytest.mark.usefixtures("gauges")
def test_without_a_replica_nothing_begins(yeldro: Yeldro) -> None:
    refused = yeldro("delete", "alerts", "--all-rows", "--batch", "5", "--behind", "1", "--yes")
    assert refused.status == 2
    assert "knows of none" in refused.err


def test_a_commit_that_waits_for_a_standby_can_be_left(
    pair: tuple[Postgresql, Postgresql], primary: Postgresql, tmp_path: Path
) -> None:
    """It is committed here, and says that it is perhaps not there."""
    primary.query("ALTER SYSTEM SET synchronous_standby_names = '*'")
    pair[1].stop(signal.SIGINT)
    primary.query("SELECT pg_reload_conf()")
    shown = tmp_path / "shown"
    try:
        where = ["--where", "id = 7", "--yes", "--no-archive", "--wait", "1"]
        with shown.open("w") as file:
            process = subprocess.Popen(
                [sys.executable, "-m", "yeldro", "delete", "levels", *where, "--db", primary.url],
                cwd=tmp_path,
                stdout=file,
                stderr=file,
            )
        waiting = "SELECT count(*) FROM pg_stat_activity WHERE wait_event = 'SyncRep'"
        end = time.monotonic() + 30
        while primary.query(waiting) != [(1,)]:
            assert time.monotonic() < end
            time.sleep(0.1)
        process.send_signal(signal.SIGINT)
        assert process.wait(30) == 0, shown.read_text()
    finally:
        primary.query("ALTER SYSTEM RESET synchronous_standby_names")
        primary.query("SELECT pg_reload_conf()")
        pair[1].start("fsync=off", "hot_standby_feedback=on")
    assert "perhaps not on its synchronous standby" in shown.read_text()
    assert "Committed." in shown.read_text()
    assert _left(primary) == ROWS - 1


@pytest.mark.skipif(
    not Path(POOLER).exists(), reason="pgbouncer is not installed; batches go without it, too"
)
def test_batches_go_through_a_pooler_that_keeps_a_session_together(
    primary: Postgresql, yeldro: Yeldro, tmp_path: Path
) -> None:
    pooler = Pooler(primary.folder.parent / "pooler", primary)
    try:
        _watch(tmp_path, primary)
        text = (tmp_path / "yeldro.toml").read_text().replace(primary.url, pooler.url)
        (tmp_path / "yeldro.toml").write_text(f'{text}pooled = "session"\n')
        stopped = yeldro(*LINE, "--batches", "3", "--behind", "5")
        assert (stopped.status, _left(primary)) == (0, ROWS - 60), stopped.err
        ended = yeldro("resume", "last", "--yes", "--behind", "5")
        assert (ended.status, _left(primary)) == (0, 0), ended.err
    finally:
        pooler.stop()
