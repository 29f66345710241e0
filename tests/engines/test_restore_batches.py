"""A restoration in batches that dies anywhere is settled, and the next one brings back the rest."""

from __future__ import annotations

from contextlib import closing
from pathlib import Path
from typing import Any

import pytest

from tests.conftest import Yeldro
from tests.engines.test_batches import LINE, TABLES, ids
from tests.property.test_laws import Yes
from tests.servers import Server
from yeldro.core.run.batching import Pace
from yeldro.store.find_records import find_record
from yeldro.store.run_record import RunRecord
from yeldro.usecases.restore import RestoreRequest, restore
from yeldro.usecases.restore_batches import BatchRestoration


class Killed(BaseException):
    """The process is gone: nobody rolls back, and nobody writes anything."""


@pytest.mark.parametrize("moment", ["before the commit", "after it"])
def test_one_that_died_is_settled_and_goes_on(
    yeldro: Yeldro, server: Server, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, moment: str
) -> None:
    server.run(TABLES)
    assert yeldro(*LINE).status == 0
    commit, write = BatchRestoration._commit, RunRecord.write
    done: list[Any] = []

    def dies_after(self: BatchRestoration, plan: Any) -> Any:
        entry = commit(self, plan)
        done.append(entry)
        if len(done) == 3:
            raise Killed
        return entry

    def dies_before(self: RunRecord, **facts: Any) -> None:
        write(self, **facts)
        done.append(facts)
        if len(done) == 5:  # each batch writes before its commit, and after it
            raise Killed

    folder = tmp_path / "yeldro-runs"
    with monkeypatch.context() as patch:
        if moment == "after it":
            patch.setattr(BatchRestoration, "_commit", dies_after)
        else:
            patch.setattr(RunRecord, "write", dies_before)
        with closing(server.open()) as database, pytest.raises(Killed):
            restore(database, find_record(folder, "last"), RestoreRequest(pace=Pace(6)), Yes())
    back = 6 if moment == "after it" else 4
    assert ids(server) == list(range(13 - back, 13))
    record = find_record(folder, "last")
    assert record.restored == "in-doubt"
    ended = yeldro("restore", "last", "--batch", "6", "--yes")
    assert (ended.status, find_record(folder, "last").restored) == (0, "yes"), ended.err
    assert (ids(server), ids(server, "gates")) == (list(range(1, 13)), list(range(1, 25)))


@pytest.mark.parametrize(
    ("words", "reason"),
    [
        (["--table", "gates"], "takes the whole run back"),
        (["--key", "3"], "takes the whole run back"),
        (["--rehearse"], "takes the whole run back"),
    ],
)
def test_what_does_not_go_with_it(
    yeldro: Yeldro, server: Server, words: list[str], reason: str
) -> None:
    server.run(TABLES)
    assert yeldro(*LINE).status == 0
    yes = [] if "--rehearse" in words else ["--yes"]
    refused = yeldro("restore", "last", "--batch", "6", *yes, *words)
    assert (refused.status, reason in refused.err, ids(server)) == (2, True, []), refused.err


def test_one_that_was_stopped_says_how_it_goes_on(yeldro: Yeldro, server: Server) -> None:
    server.run(TABLES)
    assert yeldro(*LINE).status == 0
    stopped = yeldro("restore", "last", "--batch", "6", "--batches", "2", "--yes")
    assert stopped.status == 0
    assert "To go on:" in stopped.out
    assert "--batch 6" in stopped.out
    assert ids(server) == list(range(9, 13))


def test_one_transaction_comes_back_in_one(yeldro: Yeldro, server: Server) -> None:
    server.run(TABLES)
    assert yeldro("delete", "weirs", "--where", "depth = 0", "--yes").status == 0
    refused = yeldro("restore", "last", "--batch", "6", "--yes")
    assert (refused.status, "comes back in one" in refused.err) == (2, True)


def test_rows_that_are_there_with_other_values_stop_it(yeldro: Yeldro, server: Server) -> None:
    """Those of later batches are back by then; nothing is written over."""
    server.run(TABLES)
    assert yeldro(*LINE).status == 0
    server.run("INSERT INTO weirs VALUES (5, 'another', 1)")
    stopped = yeldro("restore", "last", "--batch", "6", "--yes")
    assert (stopped.status, ids(server)) == (3, [5]), stopped.out
    assert server.query("SELECT name FROM weirs WHERE id = 5") == [("another",)]


def test_rows_that_stayed_come_back_in_batches_too(yeldro: Yeldro, server: Server) -> None:
    server.run(TABLES)
    before = server.query("SELECT * FROM weirs ORDER BY id")
    line = ["clear", "weirs", "--all-rows", "--columns", "name", "--batch", "1", "--yes"]
    assert yeldro(*line).status == 0
    stopped = yeldro("restore", "last", "--batch", "5", "--batches", "1", "--yes")
    assert (stopped.status, "Stopped after 1 batch: 5 of 12" in stopped.out) == (0, True)
    # Twelve batches are shown as one line, and what is there already is skipped.
    ended = yeldro("restore", "last", "--batch", "5", "--yes")
    assert ended.out.count("weirs (name)") == 1, ended.out
    assert ended.out.count("is known when") == 1
    assert server.query("SELECT * FROM weirs ORDER BY id") == before
