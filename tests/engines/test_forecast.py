"""`preview --forecast`: what a run would cost, from rows that were deleted and rolled back."""

from __future__ import annotations

import json
from pathlib import Path

import pytest

from tests.conftest import Yeldro
from tests.engines.test_batches import TABLES, ids
from tests.servers import Server
from yeldro.core.run.forecast import Sample, work_out

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
    document = json.loads(yeldro(*LINE, "--format", "json").out)["forecast"]
    assert (document["rows"], document["sampled"], document["batches"]) == (36, 36, 1)
    assert document["seconds"][0] < document["seconds"][1]


def test_what_would_be_stopped_is_not_rehearsed(yeldro: Yeldro, server: Server) -> None:
    server.run(TABLES)
    told = yeldro(*LINE, "--dependents", "gates=stop")
    assert (told.status, "No forecast" in told.out, ids(server)) == (3, True, list(range(1, 13)))


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
