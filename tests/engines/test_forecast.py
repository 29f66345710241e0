"""`preview --forecast`: what a run would cost, from rows that were rehearsed and rolled back."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import closing
from pathlib import Path

import pytest

from tests.conftest import Yeldro
from tests.engines.test_batches import TABLES, ids
from tests.property.test_laws import Yes
from tests.servers import Server
from yeldro.core.reach.request import Request
from yeldro.core.run.forecast import Forecast, Sample, work_out
from yeldro.core.run.outcome import Outcome
from yeldro.core.run.preview import Preview
from yeldro.core.selection.selection import Asked as Selected
from yeldro.store.run_record import Keeping
from yeldro.usecases import one_transaction
from yeldro.usecases.run import Manner, delete

LINE = ["preview", "weirs", "--where", "depth >= 0", "--all-rows", "--sample", "0", "--forecast"]


def test_a_forecast_changes_nothing_and_leaves_nothing(
    yeldro: Yeldro, server: Server, tmp_path: Path
) -> None:
    server.run(TABLES)
    before = (server.query("SELECT * FROM weirs"), server.query("SELECT * FROM gates"))
    files = sorted(tmp_path.iterdir())
    told = yeldro(*LINE)
    assert (told.status, "Forecast, from 36 rows" in told.out) == (0, True), told.err
    assert "in one transaction" in told.out
    assert "free" in told.out  # beside the copy
    assert (server.query("SELECT * FROM weirs"), server.query("SELECT * FROM gates")) == before
    assert sorted(tmp_path.iterdir()) == files
    document = yeldro(*LINE, "--format", "json").document["forecast"]
    assert (document["rows"], document["sampled"], document["batches"]) == (36, 36, 1)
    assert document["seconds"][0] < document["seconds"][1]


GROUPS = ["duplicates", "gates", "--same", "weir_id", "--keep", "fullest", "--forecast"]


def test_surplus_rows_have_a_forecast_too(yeldro: Yeldro, server: Server, tmp_path: Path) -> None:
    """Two gates for each of twelve weirs."""
    server.run(TABLES)
    before = server.query("SELECT * FROM gates")
    files = sorted(tmp_path.iterdir())
    told = yeldro(*GROUPS)
    assert (told.status, "Forecast, from 12 rows" in told.out) == (0, True), told.err
    document = yeldro(*GROUPS, "--format", "json").document["forecast"]
    assert (document["rows"], document["sampled"], document["batch"]) == (12, 12, 12)
    assert (server.query("SELECT * FROM gates"), sorted(tmp_path.iterdir())) == (before, files)
    undecided = yeldro(*GROUPS[:4], "--forecast")
    assert (undecided.status, "goes with --same and --keep" in undecided.err) == (2, True)


def test_what_would_be_stopped_is_not_rehearsed(yeldro: Yeldro, server: Server) -> None:
    server.run(TABLES)
    told = yeldro(*LINE, "--dependents", "gates=stop")
    assert (told.status, "No forecast" in told.out, ids(server)) == (3, True, list(range(1, 13)))


@pytest.mark.parametrize("answer", ["y", "n"])
def test_who_is_asked_about_many_rows_is_told(
    server: Server, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, answer: str
) -> None:
    server.run(TABLES)
    monkeypatch.setattr(one_transaction, "_MANY", 36)
    told: list[Forecast] = []

    class Asked(Yes):
        def show_forecast(self, found: Forecast) -> None:
            told.append(found)

        def allow(self, previews: Sequence[Preview]) -> bool:
            assert told
            return answer == "y"

    facts = {"kind": "delete", "asked": "", "address": ""}
    with closing(server.open()) as database:
        request = Request(Selected("weirs", all_rows=True), sample=0)
        result = delete(database, request, Manner(), Asked(), Keeping(tmp_path, facts=facts))
    assert result.outcome is (Outcome.COMMITTED if answer == "y" else Outcome.DECLINED)
    assert (told[0].rows, ids(server) == []) == (36, answer == "y")


def test_what_cannot_be_rolled_back_is_not_rehearsed(yeldro: Yeldro, server: Server) -> None:
    server.run("CREATE TABLE marks (id INTEGER PRIMARY KEY)", "INSERT INTO marks VALUES (1), (2)")
    told = yeldro("preview", "marks", "--all-rows", "--truncate", "--forecast")
    assert (told.status, "No forecast" in told.out) == (0, True), told.err


@pytest.mark.usefixtures("gauges")
def test_a_file_has_no_forecast(yeldro: Yeldro) -> None:
    told = yeldro("preview", "alerts.toml", "--forecast")
    assert (told.status, "excludes a cleanup file" in told.err) == (2, True)


def test_a_trigger_sees_the_rehearsal_and_nothing_of_it_stays(
    yeldro: Yeldro, server: Server
) -> None:
    log = "INSERT INTO removed VALUES (OLD.id)"
    server.run(TABLES, "CREATE TABLE removed (id INTEGER)")
    if server.engine == "postgresql":
        server.run(
            "CREATE FUNCTION note() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN "
            f"{log}; RETURN OLD; END $$",
            "CREATE TRIGGER noted AFTER DELETE ON weirs FOR EACH ROW EXECUTE FUNCTION note()",
        )
    else:
        server.run(f"CREATE TRIGGER noted AFTER DELETE ON weirs FOR EACH ROW BEGIN {log}; END")
    assert "Forecast, from" in yeldro(*LINE).out
    assert server.query("SELECT count(*) FROM removed") == [(0,)]


@pytest.mark.parametrize(
    ("samples", "rows", "seconds", "batch", "copied"),
    [
        # A tenth of a second whatever it is, and 10 µs a row.
        (
            [Sample(10, 0, 0.1001, 0, 1010), Sample(10_010, 0, 0.2001, 0, 2010)],
            100_010,
            1.1,
            14_999,
            11_010,
        ),
        # All of it was rehearsed.
        ([Sample(50, 0.01, 0.04, None, None)], 50, 0.04, 50, None),
        # Where a small one took longer than a large one, nothing is known of each row.
        ([Sample(1, 0, 0.5), Sample(1_000, 0, 0.2)], 2_000, 0.5, 2_000, None),
    ],
)
def test_how_it_is_worked_out(
    samples: list[Sample], rows: int, seconds: float, batch: int, copied: int | None
) -> None:
    found = work_out(rows, 0.0, samples, None, 0.25)
    middle = sum(found.seconds) / 2 / 1.1
    assert middle == pytest.approx(seconds, abs=0.01)
    assert abs(found.batch - batch) <= 1
    assert found.copied == copied
