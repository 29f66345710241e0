"""Runs in batches while others are at work, and when something goes wrong."""

from __future__ import annotations

import os
import subprocess
import sys
import threading
from collections.abc import Sequence
from contextlib import closing
from pathlib import Path
from typing import Any

import pytest

from tests.conftest import Yeldro
from tests.property.test_laws import Yes, take_back
from tests.servers import Server
from yeldro.core.duplicates.request import DuplicatesRequest, read_duplicates
from yeldro.core.model.key_set import KeyRange
from yeldro.core.reach.request import Request
from yeldro.core.reach.rules import read_rules
from yeldro.core.run.batching import Pace, Progress, Size
from yeldro.core.run.outcome import Outcome, RunResult
from yeldro.core.run.preview import Preview
from yeldro.core.selection.selection import Asked
from yeldro.errors import ArchiveFailed
from yeldro.store.batch_file import BATCHES, COMMITTED, BatchFacts, BatchFile
from yeldro.store.find_records import find_record
from yeldro.store.run_record import Keeping
from yeldro.usecases.restore import RestoreRequest, restore
from yeldro.usecases.resume import ResumedRun, check_resumable
from yeldro.usecases.run import Manner, run
from yeldro.usecases.steps import BatchJob, Deletion, Merging

TABLES = [
    "CREATE TABLE weirs (id INTEGER PRIMARY KEY, name VARCHAR(20), depth INTEGER)",
    "CREATE TABLE gates (id INTEGER PRIMARY KEY, weir_id INTEGER NOT NULL, "
    "FOREIGN KEY (weir_id) REFERENCES weirs (id) ON DELETE CASCADE)",
    "CREATE INDEX gates_weir ON gates (weir_id)",
    *[f"INSERT INTO weirs VALUES ({n}, 'weir {n}', {n % 2})" for n in range(1, 13)],
    *[f"INSERT INTO gates VALUES ({n}, {(n + 1) // 2})" for n in range(1, 25)],
]
# Three rows of the reach for each weir, so that a batch takes two weirs.
LINE = ["delete", "weirs", "--where", "depth >= 0", "--all-rows", "--batch", "6", "--yes"]


def ids(server: Server, table: str = "weirs") -> list[int]:
    return [int(row[0]) for row in server.query(f"SELECT id FROM {table} ORDER BY id")]


def stop_after(yeldro: Yeldro, server: Server, batches: int) -> None:
    server.run(TABLES)
    stopped = yeldro(*LINE, "--batches", str(batches))
    assert stopped.status == 0, stopped.err
    assert f"Stopped after {batches} batch" in stopped.out
    assert "yeldro resume" in stopped.out
    assert ids(server) == list(range(2 * batches + 1, 13))


HEAVY_WEIR = "3 rows here: that many are one row of weirs with"
HEAVY_GROUP = "3 rows here: that many are the surplus rows"


@pytest.mark.parametrize(
    ("line", "told"),
    [
        ("delete weirs --where id<4 --batch 2", HEAVY_WEIR),
        ("delete weirs --where id<4 --batch 3", ""),
        ("dedupe gates --same weir_id --keep fullest --batch 2", HEAVY_GROUP),
        ("dedupe gates --same weir_id --keep fullest --batch 3", ""),
    ],
)
def test_a_batch_that_cannot_be_smaller_is_told_beforehand(
    yeldro: Yeldro, server: Server, line: str, told: str
) -> None:
    server.run([*TABLES, "INSERT INTO gates VALUES (25, 7), (26, 7)"])
    out = " ".join(yeldro(*line.split(), "--yes").out.split())
    assert out.count("A batch cannot be smaller") == bool(told), out
    assert told in out


@pytest.mark.parametrize("words", [[], ["--no-archive"]])
def test_only_a_copy_is_offered_back(yeldro: Yeldro, server: Server, words: Sequence[str]) -> None:
    server.run(TABLES)
    assert yeldro(*LINE, *words, "--batches", "1").status == 0
    ended = yeldro("resume", "last", "--yes")
    assert (ended.status, "To take it back" in ended.out) == (0, not words), ended.out


def test_a_row_that_no_longer_matches_is_left_and_counted(yeldro: Yeldro, server: Server) -> None:
    stop_after(yeldro, server, 2)
    server.run(["UPDATE weirs SET depth = -1 WHERE id IN (7, 12)"])
    ended = yeldro("resume", "last", "--yes")
    assert (ended.status, ids(server)) == (0, [7, 12]), ended.err
    assert "2 chosen rows did not match any more" in ended.out
    assert ids(server, "gates") == [13, 14, 23, 24]
    assert yeldro("restore", "last", "--yes").status == 0
    assert ids(server) == list(range(1, 13))
    assert yeldro("resume", "last", "--yes").status == 3


def test_a_row_that_need_not_be_cleared_any_more_is_counted(yeldro: Yeldro, server: Server) -> None:
    server.run(TABLES)
    line = ["clear", "weirs", "--where", "depth >= 0", "--all-rows", "--columns", "name"]
    assert yeldro(*line, "--batch", "4", "--batches", "1", "--yes").status == 0
    server.run(
        "UPDATE weirs SET depth = -1 WHERE id = 7",
        "DELETE FROM gates WHERE weir_id = 12",
        "DELETE FROM weirs WHERE id = 12",
    )
    ended = yeldro("resume", "last", "--yes")
    assert (ended.status, "1 chosen row did not match any more" in ended.out) == (0, True)
    assert server.query("SELECT id FROM weirs WHERE name IS NOT NULL") == [(7,)]


def test_the_keys_alone_count_where_that_is_asked_for(yeldro: Yeldro, server: Server) -> None:
    stop_after(yeldro, server, 2)
    server.run(["UPDATE weirs SET depth = -1 WHERE id IN (7, 12)"])
    server.run(["INSERT INTO weirs VALUES (0, 'new', 1), (99, 'new', 1)"])
    assert yeldro("resume", "last", "--yes", "--even-if-changed").status == 0
    assert ids(server) == [0, 99]


@pytest.mark.parametrize(
    ("where", "says"),
    [
        ("id NOT IN (SELECT max(id) FROM weirs)", "looks at rows of weirs"),
        ("EXISTS (SELECT 1 FROM gates WHERE weir_id = weirs.id)", "looks at rows of gates"),
        ("depth = 1", ""),
    ],
)
def test_a_condition_on_what_goes_is_not_asked_twice(
    yeldro: Yeldro, server: Server, where: str, says: str
) -> None:
    server.run(TABLES)
    words = ["delete", "weirs", "--where", where, "--all-rows", "--yes", "--batch", "6"]
    ended = yeldro(*words)
    assert (ended.status, says in ended.err) == (2 if says else 0, True), ended.err
    assert says == "" or len(ids(server)) == 12
    if says:
        assert yeldro(*words, "--even-if-changed").status == 0
    assert len(ids(server)) < 12


@pytest.mark.parametrize(
    ("words", "says"),
    [
        (["--rehearse", "--all-rows"], "excludes --rehearse"),
        (["--yes", "--archive-table", "kept", "--all-rows"], "--archive-table"),
        (["--yes", "--all-rows", "--batch", "some"], "takes one"),
        (["--yes", "--all-rows", "--until", "25:00"], "not a time of day"),
        (["--yes", "--all-rows", "--for", "soon"], "not a duration"),
    ],
)
def test_what_does_not_go_with_batches(
    yeldro: Yeldro, server: Server, words: list[str], says: str
) -> None:
    server.run(TABLES)
    ended = yeldro("delete", "weirs", "--batch", "6", *words)
    assert (ended.status, says in ended.err) == (2, True), ended.err
    assert len(ids(server)) == 12


def test_nobody_waits_who_can_be_waited_for(yeldro: Yeldro, server: Server, tmp_path: Path) -> None:
    """Somebody holds rows for longer than a batch waits for them, and lets go of them."""
    server.run(TABLES)
    with server.connect() as other:
        begin = "BEGIN IMMEDIATE" if server.engine == "sqlite" else "BEGIN"
        other.cursor().execute(begin)
        other.cursor().execute("UPDATE weirs SET name = 'held' WHERE id = 12")
        ending = threading.Timer(4, other.commit)
        if server.engine == "sqlite":  # its connections stay in their thread
            ending = threading.Timer(0, lambda: None)
        ending.start()
        ended = yeldro(*LINE, "--wait", "1")
        ending.join()
    if server.engine == "sqlite":
        assert (ended.status, len(ids(server))) == (5, 12)
        return
    assert (ended.status, ids(server)) == (0, []), ended.err
    record = find_record(tmp_path / "yeldro-runs", "last")
    taken = [one["matched"] for one in BatchFile(record.folder / BATCHES).committed()]
    assert (sum(taken), min(taken)) == (12, 1), "fewer rows are in the way of fewer others"
    # What was tried again cost no other batch its copy.
    assert yeldro("restore", "last", "--yes").status == 0
    assert ids(server) == list(range(1, 13))


def test_a_batch_that_a_trigger_refuses_is_undone_and_those_before_it_stay(
    yeldro: Yeldro, server: Server
) -> None:
    server.run([*TABLES, *REFUSING[server.engine]])
    ended = yeldro(*LINE)
    assert ended.status != 0
    assert "Stopped after 3 batches: 6 of 12 chosen rows are done" in ended.out
    assert ids(server) == list(range(7, 13))
    server.run([f"DROP TRIGGER hold{' ON weirs' if server.engine == 'postgresql' else ''}"])
    changed = yeldro("resume", "last", "--yes")
    assert (changed.status, "The trigger hold was dropped" in changed.err) == (3, True)
    shown = yeldro("resume", "last", "--yes", "--anew")
    assert (shown.status, "The trigger hold was dropped" in shown.out) == (0, True), shown
    assert (ids(server), ids(server, "gates")) == ([], [])
    assert yeldro("restore", "last", "--yes").status == 0
    assert (ids(server), ids(server, "gates")) == (list(range(1, 13)), list(range(1, 25)))


REFUSING = {
    "sqlite": [
        "CREATE TRIGGER hold BEFORE DELETE ON weirs WHEN OLD.id = 8 "
        "BEGIN SELECT RAISE(ABORT, 'held'); END"
    ],
    "postgresql": [
        "CREATE FUNCTION held() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN "
        "IF OLD.id = 8 THEN RAISE 'held'; END IF; RETURN OLD; END $$",
        "CREATE TRIGGER hold BEFORE DELETE ON weirs FOR EACH ROW EXECUTE FUNCTION held()",
    ],
    "mariadb": [
        "CREATE TRIGGER hold BEFORE DELETE ON weirs FOR EACH ROW "
        "IF OLD.id = 8 THEN SIGNAL SQLSTATE '45000'; END IF"
    ],
}


SLOW = """
import sys, time
from yeldro.usecases import batch_keeper
from yeldro.cli.command_line import run_command_line
work = getattr(batch_keeper.BatchKeeper, sys.argv[1])
def die(self, *arguments, **named):
    if self.attempt == int(sys.argv[2]) and sys.argv[3] == "before":
        import os; os._exit(9)
    work(self, *arguments, **named)
    if self.attempt == int(sys.argv[2]):
        import os; os._exit(9)
setattr(batch_keeper.BatchKeeper, sys.argv[1], die)
sys.exit(run_command_line(sys.argv[4:]))
"""


@pytest.mark.parametrize("when", ["before", "after"])
@pytest.mark.parametrize("step", ["keep", "commit_batch", "batch_committed"])
def test_a_run_that_died_goes_on_with_exactly_what_is_left(
    yeldro: Yeldro, server: Server, tmp_path: Path, step: str, when: str
) -> None:
    server.run(TABLES)
    words = [sys.executable, "-c", SLOW, step, "2", when, *LINE]
    died = subprocess.run(words, cwd=tmp_path, env=dict(os.environ), capture_output=True)
    assert died.returncode == 9, died.stderr
    assert len(ids(server)) in (8, 10)
    if when == "before":
        shown = yeldro("history", "last")
        assert "stopped" in shown.out, shown
    ended = yeldro("resume", "last", "--yes")
    assert (ended.status, ids(server), ids(server, "gates")) == (0, [], []), ended.err
    (record,) = tmp_path.glob("yeldro-runs/*/batches.jsonl")
    done = BatchFile(record).committed()
    assert [(one["first"], one["last"]) for one in done] == [(n, n + 1) for n in range(1, 13, 2)]
    assert yeldro("restore", "last", "--yes").status == 0
    assert (ids(server), ids(server, "gates")) == (list(range(1, 13)), list(range(1, 25)))


@pytest.mark.parametrize(
    ("seconds", "rows"), [(1.0, 250), (0.5, 400), (0.2, 1000), (0.125, 1600), (0.01, 2000)]
)
def test_a_size_adapts_to_the_time_that_a_batch_may_take(seconds: float, rows: int) -> None:
    size = Size(1000, 1.0, hold=0.25)
    size.learn(1000, 1000, seconds)
    assert size.rows == rows
    # A single slow one may have waited for a disk: a second one is not forgotten at once.
    size.learn(rows, rows, 0.01)
    assert rows < size.rows <= 2 * rows
    for _ in range(12):
        size.learn(size.rows, size.rows, size.rows / 1000)
    for _ in range(12):
        size.learn(size.rows, size.rows, size.rows / 10_000)
    assert size.rows == 200
    for _ in range(12):
        size.learn(size.rows, size.rows, size.rows / 10_000)
    assert size.rows == 2000


LOCKS = [
    "CREATE TABLE locks (id INTEGER PRIMARY KEY, up INTEGER, "
    "FOREIGN KEY (up) REFERENCES locks (id))",
    "INSERT INTO locks VALUES (1, NULL), (2, NULL), (3, 1), (4, 3)",
]
BASINS = [
    "CREATE TABLE basins (id INTEGER PRIMARY KEY)",
    "CREATE TABLE pipes (id INTEGER PRIMARY KEY, above INTEGER NOT NULL, below INTEGER NOT NULL, "
    "FOREIGN KEY (above) REFERENCES basins (id), "
    "FOREIGN KEY (below) REFERENCES basins (id) ON DELETE CASCADE)",
    "INSERT INTO basins VALUES (1), (2), (3), (4), (5), (6)",
    "INSERT INTO pipes VALUES (1, 1, 3)",
]
ALL = ["--all-rows", "--batch", "1", "--yes"]


def test_chosen_rows_that_hold_others_go_with_them(yeldro: Yeldro, server: Server) -> None:
    server.run(LOCKS)
    ended = yeldro("delete", "locks", *ALL)
    assert (ended.status, ids(server, "locks")) == (0, []), ended.err
    assert "Committed in 2 batches." in ended.out
    assert yeldro("restore", "last", "--yes").status == 0
    assert ids(server, "locks") == [1, 2, 3, 4]


def test_a_batch_grows_until_nothing_blocks_it(yeldro: Yeldro, server: Server) -> None:
    """The first basin is held by a pipe that goes with the third."""
    server.run(BASINS)
    ended = yeldro("delete", "basins", *ALL)
    assert (ended.status, ids(server, "basins"), ids(server, "pipes")) == (0, [], []), ended.err
    assert "Committed in 3 batches." in ended.out
    assert yeldro("restore", "last", "--yes").status == 0
    assert ids(server, "basins") == [1, 2, 3, 4, 5, 6]


PAIRS = [
    "CREATE TABLE pools (id INTEGER PRIMARY KEY, sluice_id INTEGER NOT NULL)",
    "CREATE TABLE sluices (id INTEGER PRIMARY KEY, pool_id INTEGER NOT NULL, "
    "FOREIGN KEY (pool_id) REFERENCES pools (id) ON DELETE CASCADE)",
    "INSERT INTO pools VALUES (1, 1), (2, 2), (3, 3)",
    "INSERT INTO sluices VALUES (1, 1), (2, 2), (3, 3)",
    "ALTER TABLE pools ADD FOREIGN KEY (sluice_id) REFERENCES sluices (id) ON DELETE CASCADE",
]


def test_rows_that_hold_each_other_go_batch_by_batch(yeldro: Yeldro, server: Server) -> None:
    """They go in one statement, or with the checks at the end: no statement says how many."""
    tables = PAIRS
    if server.engine == "sqlite":  # it adds no reference to a table that is there
        pools = PAIRS[0][:-1] + ", FOREIGN KEY (sluice_id) REFERENCES sluices (id))"
        tables = ["PRAGMA foreign_keys = OFF", pools, *PAIRS[1:4]]
    server.run(tables)
    cycles = ["--break-cycles"] if server.engine == "mariadb" else []
    ended = yeldro("delete", "pools", *ALL, *cycles)
    assert (ended.status, ids(server, "pools"), ids(server, "sluices")) == (0, [], []), ended.err
    assert "Committed in 3 batches." in ended.out


HOLDS = (
    "CREATE TABLE holds (id INTEGER PRIMARY KEY, weir_id INTEGER, "
    "FOREIGN KEY (weir_id) REFERENCES weirs (id))"
)


MANNER = Manner(ask_first=False, pace=Pace(6))


def delete_all(
    server: Server, folder: Path, answers: Yes, rules: Sequence[str] = ()
) -> tuple[Keeping, RunResult]:
    """Two weirs a batch."""
    facts = {"kind": "delete", "asked": "", "address": ""}
    keeping = Keeping(folder / "runs", facts=facts)
    with closing(server.open()) as database:
        read = read_rules(rules, database.schema)
        job = Deletion(database, Request(Asked("weirs", all_rows=True), rules=read))
        return keeping, run(database, [job], MANNER, answers, keeping)


def go_on(server: Server, keeping: Keeping) -> RunResult:
    record = find_record(keeping.folder, "last")
    with closing(server.open()) as database:
        check_resumable(database, record)
    with closing(server.open()) as database:
        job = Deletion(database, Request(Asked("weirs", all_rows=True)))
        return ResumedRun(database, job, MANNER, Yes(), record).run()


def test_a_batch_whose_commit_could_not_be_written_down_is_settled(
    server: Server, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    server.run(TABLES)
    add = BatchFile.add

    def fail(file: BatchFile, facts: BatchFacts) -> None:
        if (facts["batch"], facts["state"]) == (2, COMMITTED):
            raise ArchiveFailed("The disk is full.")
        add(file, facts)

    with monkeypatch.context() as patched:
        patched.setattr(BatchFile, "add", fail)
        keeping, result = delete_all(server, tmp_path, Yes())
    assert (result.outcome, ids(server)) == (Outcome.IN_DOUBT, list(range(5, 13)))
    result = go_on(server, keeping)
    assert (result.outcome, ids(server)) == (Outcome.COMMITTED, []), result.reason
    (lines,) = keeping.folder.glob("*/batches.jsonl")
    assert len(BatchFile(lines).committed()) == 6
    take_back(server, keeping)
    assert ids(server) == list(range(1, 13))


def test_a_run_that_was_stopped_before_its_first_batch(server: Server, tmp_path: Path) -> None:
    server.run([*TABLES, HOLDS])

    class Meddling(Yes):
        def begin_batches(self) -> None:
            server.run(["INSERT INTO holds VALUES (1, 2)"])

    keeping, result = delete_all(server, tmp_path, Meddling())
    assert (result.outcome, result.status) == (Outcome.STOPPED, 3)
    record = find_record(keeping.folder, "last")
    with closing(server.open()) as database:
        back = restore(database, record, RestoreRequest(), Yes())
    assert (back.outcome, ids(server)) == (Outcome.NOTHING_TO_RESTORE, list(range(1, 13)))
    server.run(["DELETE FROM holds"])
    result = go_on(server, keeping)
    assert (result.outcome, ids(server)) == (Outcome.COMMITTED, []), result.reason


@pytest.mark.parametrize(("on_delete", "rules"), [("", []), (" ON DELETE CASCADE", ["holds=stop"])])
def test_what_comes_to_depend_on_a_later_batch_stops_it(
    server: Server, tmp_path: Path, on_delete: str, rules: Sequence[str]
) -> None:
    """The database refuses the one, and would take the other with it."""
    server.run([*TABLES, HOLDS[:-1] + f"{on_delete})"])

    class Meddling(Yes):
        def batch_done(self, progress: Progress) -> None:
            if progress.batches == 2:
                server.run(["INSERT INTO holds VALUES (1, 8)"])

    _, result = delete_all(server, tmp_path, Meddling(), rules)
    assert (result.outcome, ids(server, "holds")) == (Outcome.STOPPED, [1])
    assert "1 row of holds" in result.reason
    assert ids(server) == list(range(7, 13))


PLAIN = [
    "CREATE TABLE weirs (id INTEGER PRIMARY KEY, depth INTEGER, C0 INTEGER, name VARCHAR(9), "
    "above INTEGER)",
    *[f"INSERT INTO weirs VALUES ({n}, {n % 2}, {n}, 'weir', NULL)" for n in range(1, 13)],
]
ABOVE = "FOREIGN KEY (above) REFERENCES weirs (id)"


@pytest.mark.parametrize(
    ("tables", "where", "archive", "at_once"),
    [
        (PLAIN, "depth >= 0", False, True),
        (
            PLAIN,
            "(depth = 0 OR weirs.depth IN (1, 2)) AND c0 > 0 AND NOT name LIKE 'x%'",
            False,
            True,
        ),
        ([*PLAIN, HOLDS], "depth >= 0", False, True),
        # Its rows are copied before, other rows go with them, or the condition may do anything.
        (PLAIN, "depth >= 0", True, False),
        (PLAIN, "abs(depth + 0.5) = depth + 0.5", False, False),
        ([*PLAIN, HOLDS], "depth >= 0 AND id NOT IN (SELECT weir_id FROM holds)", False, False),
        (TABLES, "depth >= 0", False, False),
        ([*PLAIN, f"{HOLDS[:-1]} ON DELETE SET NULL)"], "depth >= 0", False, False),
        ([PLAIN[0][:-1] + f", {ABOVE})", *PLAIN[1:]], "depth >= 0", False, False),
        ([*PLAIN, "trigger"], "depth >= 0", False, False),
    ],
)
def test_a_row_that_changes_between_batches_is_left(
    server: Server,
    tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
    tables: Sequence[str],
    where: str,
    archive: bool,
    at_once: bool,
) -> None:
    """Also where rows are only asked about while they go."""
    harmless = [line.replace("OLD.id = 8", "OLD.id = 99") for line in REFUSING[server.engine]]
    server.run([line for one in tables for line in (harmless if one == "trigger" else [one])])

    class Meddling(Yes):
        def batch_done(self, progress: Progress) -> None:
            if progress.batches == 2:
                server.run(["UPDATE weirs SET depth = -1 WHERE id = 12"])

    facts = {"kind": "delete", "asked": "", "address": ""}
    keeping = Keeping(tmp_path / "runs", archive=archive, facts=facts)
    with closing(server.open()) as database:
        asked = Asked("weirs", where=(where,), all_rows=True)
        job = Deletion(database, Request(asked))
        sent = watch_selected(database, monkeypatch)
        manner = Manner(ask_first=False, pace=Pace(2 if tables is not TABLES else 6))
        result = run(database, [job], manner, Meddling(), keeping)
    assert (result.outcome, ids(server)) == (Outcome.COMMITTED, [12]), result.reason
    assert result.progress
    assert result.progress.left == 1
    # SQLite knows that nobody wrote before the first two.
    known = [True, True] if server.engine == "sqlite" else [False, False]
    assert [keys.has_all for keys in sent] == at_once * [*known, *4 * [False]]


def watch_selected(database: Any, monkeypatch: pytest.MonkeyPatch) -> list[KeyRange]:
    """What is only asked about while it goes."""
    sent: list[KeyRange] = []
    delete = database.delete_selected

    def watch(selection: Any, keys: KeyRange) -> int:
        sent.append(keys)
        return int(delete(selection, keys))

    monkeypatch.setattr(database, "delete_selected", watch)
    return sent


@pytest.mark.parametrize(
    ("asked", "even_if_changed", "has_all"),
    [
        ({"where": ("depth = 1",)}, False, True),
        ({"where": ("depth = 1",)}, True, False),
        ({"where": ("depth >= 0",), "order_by": "depth desc", "limit": 6}, False, False),
        ({"keys": ("1", "3", "5", "7", "9", "11")}, False, False),
    ],
)
def test_rows_go_from_one_to_another_where_all_between_them_go(
    server: Server,
    tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
    asked: dict[str, Any],
    even_if_changed: bool,
    has_all: bool,
) -> None:
    """Where nobody else wrote, as only SQLite can tell."""
    server.run(PLAIN)
    keeping = Keeping(tmp_path, archive=False, facts={"kind": "delete", "asked": "", "address": ""})
    with closing(server.open()) as database:
        job = Deletion(database, Request(Asked("weirs", **asked)))
        sent = watch_selected(database, monkeypatch)
        pace = Pace(2, even_if_changed=even_if_changed)
        result = run(database, [job], Manner(ask_first=False, pace=pace), Yes(), keeping)
    assert (result.outcome, ids(server)) == (Outcome.COMMITTED, [2, 4, 6, 8, 10, 12])
    assert any(keys.has_all for keys in sent) == (has_all and server.engine == "sqlite")


@pytest.mark.parametrize("key", ["INTEGER", "VARCHAR(20)", "NUMERIC(8, 2)"])
@pytest.mark.parametrize("dedupes", [False, True])
def test_chosen_rows_that_are_gone_before_the_first_batch(
    server: Server, tmp_path: Path, key: str, dedupes: bool
) -> None:
    """Nobody holds them while a person is asked."""
    server.run(
        f"CREATE TABLE weirs (id {key} PRIMARY KEY, depth INTEGER)",
        *[f"INSERT INTO weirs VALUES ('{n}', {n // 4})" for n in range(1, 10)],
    )

    class Meddling(Yes):
        def allow(self, previews: Sequence[Preview]) -> bool:
            server.run(["DELETE FROM weirs WHERE id = '9'"])
            return super().allow(previews)

    facts = {"kind": "delete", "asked": "", "address": ""}
    keeping = Keeping(tmp_path / "runs", facts=facts)
    manner = Manner(pace=Pace(2))
    with closing(server.open()) as database:
        asked = Asked("weirs", all_rows=True)
        job: BatchJob = Deletion(database, Request(asked))
        if dedupes:
            same, keep = ["depth"], ["lowest id"]
            grouping = read_duplicates(database.schema, database.dialect, asked, same, keep)
            job = Merging(database, DuplicatesRequest(grouping))
        result = run(database, [job], manner, Meddling(), keeping)
    assert result.outcome is Outcome.COMMITTED, result.reason
    assert ids(server) == ([1, 4, 8] if dedupes else [])


def test_what_is_undone_touches_no_batch_that_is_done(server: Server, tmp_path: Path) -> None:
    """Somebody holds a row of the fourth batch while the second one is committed."""
    server.run([*TABLES, HOLDS])

    class Meddling(Yes):
        def batch_done(self, progress: Progress) -> None:
            if progress.batches == 2:
                server.run(["INSERT INTO holds VALUES (1, 8)"])

    keeping, result = delete_all(server, tmp_path, Meddling())
    assert (result.outcome, result.status) == (Outcome.STOPPED, 3)
    assert result.progress
    assert result.progress.batches == 3
    assert ids(server) == list(range(7, 13))
    (lines,) = keeping.folder.glob("*/batches.jsonl")
    assert len(BatchFile(lines).committed()) == 3
    take_back(server, keeping)
    assert ids(server) == list(range(1, 13))
