"""Batches wait for a replica of MariaDB that falls behind, and stop where that cannot be told."""

from __future__ import annotations

import os
import time
from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path

import pymysql
import pytest

from tests.clusters import Mariadb, has_mariadb, replica_pair
from tests.conftest import Yeldro
from yeldro.store.batch_file import BATCHES, BatchFile
from yeldro.store.find_records import find_record

pytestmark = pytest.mark.skipif(
    not has_mariadb() and not os.environ.get("CI"),
    reason="the programs of a MariaDB server are not installed",
)
ROWS = 400
LINE = ["delete", "levels", "--all-rows", "--batch", "40", "--no-archive", "--yes"]


@pytest.fixture(scope="module")
def pair() -> Iterator[tuple[Mariadb, Mariadb]]:
    with replica_pair() as nodes:
        yield nodes


@pytest.fixture
def replica(pair: tuple[Mariadb, Mariadb], tmp_path: Path) -> Mariadb:
    """It has the rows of its primary, and is watched."""
    primary, other = pair
    for statement in (
        "DROP TABLE IF EXISTS levels",
        "CREATE TABLE levels (id INT PRIMARY KEY, note VARCHAR(20))",
        f"INSERT INTO levels SELECT seq, 'as read' FROM seq_1_to_{ROWS}",
    ):
        primary.query(statement, "larkwater")
    _catch_up(other, ROWS)
    (tmp_path / "yeldro.toml").write_text(
        f'default = "live"\n[databases.live]\nurl = "{primary.url()}"\nwatch = ["{other.url()}"]\n'
    )
    return other


def _count(node: Mariadb) -> int | None:
    """No number while the replica has not made the table."""
    with suppress(pymysql.err.ProgrammingError):
        return int(node.query("SELECT count(*) FROM levels", "larkwater")[0][0])
    return None


def _catch_up(node: Mariadb, rows: int) -> None:
    end = time.monotonic() + 30
    while _count(node) != rows:
        assert time.monotonic() < end
        time.sleep(0.05)


def _delay(replica: Mariadb, seconds: int) -> None:
    for line in ("STOP SLAVE", f"CHANGE MASTER TO MASTER_DELAY = {seconds}", "START SLAVE"):
        replica.query(line)


def test_a_run_waits_for_a_replica_that_is_behind(
    pair: tuple[Mariadb, Mariadb], replica: Mariadb, yeldro: Yeldro, tmp_path: Path
) -> None:
    _delay(replica, 60)
    try:
        stopped = yeldro(*LINE, "--behind", "1", "--pause", "0.5", "--for", "6s")
        assert stopped.status == 0, stopped.err
        assert "The time for it is over" in stopped.out + stopped.err
        assert 0 < (_count(pair[0]) or 0) < ROWS
    finally:
        _delay(replica, 0)
    ended = yeldro("resume", "last", "--yes", "--behind", "5")
    assert (ended.status, _count(pair[0])) == (0, 0), ended.err
    _catch_up(replica, 0)
    batches = BatchFile(find_record(tmp_path / "yeldro-runs", "last").folder / BATCHES)
    assert max(one["behind"] for one in batches.committed()) >= 1
    assert yeldro("report", "last", "-o", "page.html").status == 0
    assert "the furthest replica was behind" in (tmp_path / "page.html").read_text()


def test_a_replica_that_has_stopped_stops_the_run(
    pair: tuple[Mariadb, Mariadb], replica: Mariadb, yeldro: Yeldro
) -> None:
    replica.query("STOP SLAVE SQL_THREAD")
    try:
        stopped = yeldro(*LINE, "--behind", "1")
    finally:
        replica.query("START SLAVE")
    assert _count(pair[0]) == ROWS
    assert "its replication has stopped" in stopped.err
