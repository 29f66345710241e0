"""Runs in batches on a Galera cluster of three nodes, while others write and nodes come and go."""

from __future__ import annotations

import os
import random
import signal
import subprocess
import sys
import threading
import time
from collections.abc import Iterator
from contextlib import closing, contextmanager
from pathlib import Path

import pymysql
import pytest

from tests.clusters import Galera, galera_cluster, has_galera
from tests.conftest import Yeldro
from yeldro.store.find_records import find_record

pytestmark = pytest.mark.skipif(
    not has_galera() and not os.environ.get("CI"),
    reason="the Galera provider, MariaDB's server or rsync is not installed",
)
ROWS = int(os.environ.get("YELDRO_CLUSTER_ROWS", "4000"))
KILLS = int(os.environ.get("YELDRO_CLUSTER_KILLS", "3"))
GO = ROWS // 2
# Seconds that many rows may take.
WAIT = 60 + ROWS / 2000
BATCH = str(max(100, ROWS // 200))
LINE = ["delete", "gauges", "--where", "half = 1", "--batch", BATCH, "--yes"]


@pytest.fixture(scope="module")
def cluster() -> Iterator[list[Galera]]:
    with galera_cluster() as nodes:
        nodes[0].query("CREATE DATABASE larkwater")
        yield nodes


@pytest.fixture
def nodes(cluster: list[Galera]) -> list[Galera]:
    """With a tree of rows, half of which are to go."""
    first = cluster[0]
    for statement in (
        "DROP TABLE IF EXISTS levels, gauges, notes",
        "CREATE TABLE gauges (id INT PRIMARY KEY, half INT, place VARCHAR(40))",
        "CREATE TABLE levels (id INT PRIMARY KEY, gauge_id INT NOT NULL, "
        "FOREIGN KEY (gauge_id) REFERENCES gauges (id) ON DELETE CASCADE)",
        "CREATE TABLE notes (text VARCHAR(20))",
        f"INSERT INTO gauges SELECT seq, seq % 2, CONCAT('bend ', seq) FROM seq_1_to_{ROWS}",
        f"INSERT INTO levels SELECT seq, seq FROM seq_1_to_{ROWS}",
    ):
        first.query(statement, "larkwater")
    _meet(cluster)
    return cluster


def _meet(nodes: list[Galera]) -> None:
    """Until all have what the first one has."""
    end = time.monotonic() + WAIT
    while len({node.status("wsrep_last_committed") for node in nodes}) > 1:
        assert time.monotonic() < end
        time.sleep(0.05)


def _sums(nodes: list[Galera]) -> list[object]:
    _meet(nodes)
    return [node.query("CHECKSUM TABLE gauges, levels", "larkwater") for node in nodes]


def _left(node: Galera) -> int:
    """Rows that are to go, and what depends on them, once every node has caught up."""
    counts = "SELECT count(*) FROM gauges WHERE half = 1 UNION ALL SELECT count(*) FROM levels l "
    counts += "JOIN gauges g ON g.id = l.gauge_id WHERE g.half = 1"
    return sum(int(row[0]) for row in node.query(counts, "larkwater"))


@contextmanager
def _others_write(nodes: list[Galera]) -> Iterator[list[int]]:
    """On every node somebody else changes rows of both halves, again and again."""
    over, written = threading.Event(), [0]

    def write(node: Galera, number: int) -> None:
        with closing(node.connect("larkwater")) as connection, connection.cursor() as cursor:
            while not over.is_set():
                number = number * 7919 % ROWS + 1
                try:
                    cursor.execute(f"UPDATE gauges SET place = 'read {number}' WHERE id = {number}")
                    written[0] += 1
                except pymysql.err.OperationalError as error:
                    if error.args[0] not in (1213, 1205):
                        return
                time.sleep(0.002)

    threads = [threading.Thread(target=write, args=(node, at)) for at, node in enumerate(nodes, 1)]
    for thread in threads:
        thread.start()
    try:
        yield written
    finally:
        over.set()
        for thread in threads:
            thread.join()


def test_batches_go_while_others_write_on_every_node(nodes: list[Galera], yeldro: Yeldro) -> None:
    with _others_write(nodes) as written:
        ended = yeldro(*LINE, "--db", nodes[0].url())
    assert ended.status == 0, ended.err
    assert written[0] > 0
    assert [_left(node) for node in nodes] == [0, 0, 0]
    gone = _sums(nodes)
    assert gone[0] == gone[1] == gone[2]
    back = yeldro("restore", "last", "--yes", "--db", nodes[0].url())
    assert back.status == 0, back.err
    assert _left(nodes[0]) == 2 * GO
    same = _sums(nodes)
    assert same[0] == same[1] == same[2] != gone[0]


@pytest.mark.parametrize(
    ("limit", "value"), [("wsrep_max_ws_rows", 50), ("wsrep_max_ws_size", 20_000)]
)
def test_a_batch_is_no_larger_than_the_cluster_allows(
    nodes: list[Galera], yeldro: Yeldro, limit: str, value: int
) -> None:
    usual = nodes[0].query(f"SELECT @@GLOBAL.{limit}")[0][0]
    nodes[0].query(f"SET GLOBAL {limit} = {value}")
    try:
        whole = yeldro(*LINE[:-3], "--yes", "--db", nodes[0].url())
        assert (whole.status, limit in whole.err, "--batch" in whole.err) == (5, True, True)
        ended = yeldro(*LINE[:-2], "1000", "--yes", "--db", nodes[0].url())
        assert (ended.status, _left(nodes[0])) == (0, 0), ended.err
        back = yeldro("restore", "last", "--yes", "--db", nodes[0].url())
        assert (back.status, limit in back.err, "--batch" in back.err) == (5, True, True)
        back = yeldro("restore", "last", "--batch", "1000", "--yes", "--db", nodes[0].url())
        assert (back.status, _left(nodes[0])) == (0, 2 * GO), back.err
    finally:
        nodes[0].query(f"SET GLOBAL {limit} = {usual}")


def test_a_table_without_a_key_is_told_beforehand(nodes: list[Galera], yeldro: Yeldro) -> None:
    nodes[0].query("INSERT INTO notes VALUES ('as read')", "larkwater")
    nodes[0].query("SET GLOBAL wsrep_certify_nonPK = OFF")
    try:
        refused = yeldro("delete", "notes", "--all-rows", "--yes", "--db", nodes[0].url())
    finally:
        nodes[0].query("SET GLOBAL wsrep_certify_nonPK = ON")
    assert "wsrep_certify_nonPK" in refused.err
    assert nodes[0].query("SELECT count(*) FROM notes", "larkwater") == [(1,)]


def test_a_run_waits_for_a_node_that_is_behind(
    nodes: list[Galera], yeldro: Yeldro, tmp_path: Path
) -> None:
    watch = ", ".join(f'"{node.url()}"' for node in nodes[1:])
    (tmp_path / "yeldro.toml").write_text(
        f'default = "live"\n[databases.live]\nurl = "{nodes[0].url()}"\nwatch = [{watch}]\n'
    )
    # Without holding up the others, the third one stops taking what they write.
    nodes[2].query("SET GLOBAL wsrep_desync = ON")
    with closing(nodes[2].connect()) as holding, holding.cursor() as cursor:
        cursor.execute("FLUSH TABLES WITH READ LOCK")
        stopped = yeldro(*LINE, "--behind", "0.5", "--pause", "0.1", "--for", "3s")
        cursor.execute("UNLOCK TABLES")
    nodes[2].query("SET GLOBAL wsrep_desync = OFF")
    assert "The time for it is over" in stopped.out + stopped.err
    assert 0 < _left(nodes[0]) < 2 * GO
    ended = yeldro("resume", "last", "--yes", "--behind", "10")
    assert (ended.status, _left(nodes[0])) == (0, 0), ended.err


def _call(folder: Path, *line: str) -> subprocess.Popen[bytes]:
    return subprocess.Popen(
        [sys.executable, "-m", "yeldro", *line],
        cwd=folder,
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
    )


def _start(folder: Path, node: Galera) -> subprocess.Popen[bytes]:
    """The same as a process of its own, up to its third batch."""
    process = _call(folder, *LINE, "--pause", "0.05", "--db", node.url())
    end = time.monotonic() + WAIT
    while _left(node) > 2 * GO - 3 * int(BATCH):
        assert time.monotonic() < end
        time.sleep(0.02)
    return process


def test_the_tool_is_killed_again_and_again(
    nodes: list[Galera], yeldro: Yeldro, tmp_path: Path
) -> None:
    """Nothing is lost, and nothing goes twice: what comes back is what there was."""
    chance, before = random.Random(KILLS), _sums(nodes)
    process = _start(tmp_path, nodes[0])
    for _ in range(KILLS):
        time.sleep(chance.uniform(0, 2))
        process.kill()
        if process.wait() == 0:
            break
        process = _call(tmp_path, "resume", "last", "--yes", "--db", nodes[0].url())
    process.wait(600)
    if _left(nodes[0]):
        ended = yeldro("resume", "last", "--yes", "--db", nodes[0].url())
        assert ended.status == 0, ended.err
    assert [_left(node) for node in nodes] == [0, 0, 0]
    back = yeldro("restore", "last", "--yes", "--db", nodes[0].url())
    assert (back.status, _sums(nodes)) == (0, before), back.err


def test_another_node_dies_in_mid_run(nodes: list[Galera], yeldro: Yeldro, tmp_path: Path) -> None:
    process = _start(tmp_path, nodes[0])
    nodes[2].stop(signal.SIGKILL)
    status = process.wait(120)
    if status:  # the moment in which the cluster counts its nodes may end a batch
        ended = yeldro("resume", "last", "--yes", "--db", nodes[0].url())
        assert ended.status == 0, ended.err
    assert _left(nodes[0]) == 0
    nodes[2].join(nodes[:2])
    sums = _sums(nodes)
    assert sums[0] == sums[1] == sums[2]


def test_the_connected_node_dies_and_another_goes_on(
    nodes: list[Galera], yeldro: Yeldro, tmp_path: Path
) -> None:
    process = _start(tmp_path, nodes[0])
    nodes[0].stop(signal.SIGKILL)
    assert process.wait(120) != 0
    end = time.monotonic() + 30
    while nodes[1].status("wsrep_ready") != "ON":
        assert time.monotonic() < end
        time.sleep(0.1)
    assert 0 < _left(nodes[1]) < 2 * GO
    ended = yeldro("resume", "last", "--yes", "--db", nodes[1].url())
    assert (ended.status, _left(nodes[1])) == (0, 0), ended.err
    nodes[0].join(nodes[1:])
    gone = _sums(nodes)
    assert gone[0] == gone[1] == gone[2]
    back = yeldro("restore", "last", "--yes", "--db", nodes[1].url())
    assert (back.status, _left(nodes[1])) == (0, 2 * GO), back.err
    assert find_record(tmp_path / "yeldro-runs", "last").restored == "yes"


def test_a_node_without_its_cluster_says_so(nodes: list[Galera], yeldro: Yeldro) -> None:
    """Last, because it takes the cluster apart."""
    for node in nodes[1:]:
        node.stop(signal.SIGKILL)
    end = time.monotonic() + 30
    while nodes[0].status("wsrep_cluster_status") == "Primary":
        assert time.monotonic() < end
        time.sleep(0.1)
    refused = yeldro(*LINE, "--db", nodes[0].url())
    assert (refused.status, "primary component" in refused.err) == (5, True), refused.err
