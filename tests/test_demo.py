"""The demo database and the walk through it."""

from __future__ import annotations

import json
import sqlite3
from contextlib import closing
from pathlib import Path

from tests.conftest import Yeldro, digest
from tests.servers import Server
from yeldro.demo.cleanups import CLEANUPS
from yeldro.demo.larkwater import make_larkwater

PLANTED = {
    "chain of three": "SELECT 1 FROM sensors a JOIN sensors b ON a.replaced_by_id = b.id JOIN sensors c"
    " ON b.replaced_by_id = c.id",
    "cycle": "SELECT 1 FROM stations t JOIN sensors s ON t.main_sensor_id = s.id AND s.station_id = t.id",
    "two references": "SELECT 1 FROM visits WHERE reviewer_id <> observer_id",
    "partly NULL": "SELECT 1 FROM alerts WHERE sensor_id IS NOT NULL AND calibration_number IS NULL",
    "orphans": "SELECT 1 FROM readings WHERE sensor_id NOT IN (SELECT id FROM sensors)",
    "registered twice": "SELECT 1 FROM observers GROUP BY lower(trim(email)) HAVING count(*) > 1",
    "uploaded twice": "SELECT 1 FROM readings GROUP BY sensor_id, measured_at HAVING count(*) > 1",
    "loaded twice": "SELECT 1 FROM logger_lines GROUP BY sensor_code, received_at, line HAVING count(*) > 1",
    "trial rows": "SELECT 1 FROM stations WHERE is_trial",
    "gaps": "SELECT 1 FROM readings WHERE level_m IS NULL",
    "closed": "SELECT 1 FROM closed_stations",
}


def test_larkwater_is_the_same_each_time_and_holds_every_shape(
    tmp_path: Path, built_larkwater: Path
) -> None:
    make_larkwater(tmp_path / "again.db")
    assert digest(tmp_path / "again.db") == digest(built_larkwater)
    connection = sqlite3.connect(built_larkwater)
    assert [
        name for name, query in PLANTED.items() if not connection.execute(query).fetchall()
    ] == []
    rules = {
        row[0]
        for row in connection.execute(
            "SELECT on_delete FROM sqlite_master m, pragma_foreign_key_list(m.name)"
        )
    }
    assert rules == {"CASCADE", "SET NULL", "RESTRICT", "NO ACTION"}
    assert 19_000 < connection.execute("SELECT count(*) FROM readings").fetchone()[0] < 22_000
    connection.close()


def test_scale_multiplies(yeldro: Yeldro) -> None:
    assert yeldro("demo", "big", "--scale", "3", "--build-only").status == 0
    survey = json.loads(yeldro("survey", "--db", "big/gauges.db", "--format", "json").out)
    rows = {table["name"]: table["rows"] for table in survey["tables"]}
    assert (rows["stations"], rows["observers"], rows["closed_stations"]) == (126, 101, None)
    station = next(table for table in survey["tables"] if table["name"] == "stations")
    assert station.keys() >= {
        "name",
        "rows",
        "key",
        "references",
        "referenced_by",
        "triggers",
        "cautions",
    }
    assert [one["name"] for one in station["cautions"]] == ["trigger"]


def test_the_walk_ends_with_the_rows_back(yeldro: Yeldro) -> None:
    result = yeldro("demo")
    assert result.status == 0
    assert result.out.count("\n$ yeldro ") == 30
    assert result.out.count("(exit status 3)") == 3
    words = (
        "Rehearsed",
        "Committed",
        "0 of 36",
        "nothing to restore",
        "nothing to remove",
        "240        60",
    )
    assert [word for word in words if word not in result.out] == []
    close = json.loads(
        yeldro("survey", "stations", "--db", "larkwater/gauges.db", "--format", "json").out
    )["tables"][0]
    assert (close["rows"], ["code"] in close["unique"]) == (42, True)
    column = {one["name"]: one for one in close["columns"]}["closed_on"]
    assert (column["nulls"], column["distinct"], column["smallest"]) == (34, 8, "2012-05-28")
    assert yeldro("demo").status == 2


def test_every_cleanup_of_the_demo_runs(yeldro: Yeldro) -> None:
    assert yeldro("demo", "--build-only").status == 0
    done = []
    for name in CLEANUPS:
        place = [f"larkwater/{name}", "--db", "larkwater/gauges.db", "--format", "json"]
        steps = json.loads(yeldro("preview", *place).out)["steps"]
        done += [step.get("matched", step.get("surplus")) for step in steps]
        assert json.loads(yeldro("run", *place, "--rehearse").out)["outcome"] == "rehearsed", name
    assert done == [6, 3, 6, 672, 24, 24, 672, 60]


def test_every_cleanup_of_the_demo_does_the_same_as_a_script(
    yeldro: Yeldro, tmp_path: Path
) -> None:
    def rows(path: Path) -> dict[str, list[str]]:
        with closing(sqlite3.connect(path)) as connection:
            connection.execute(
                "UPDATE removals SET removed_at = ''"
            )  # the second in which a trigger wrote it
            names = [
                row[0]
                for row in connection.execute("SELECT name FROM sqlite_master WHERE type = 'table'")
            ]
            return {
                name: sorted(map(str, connection.execute(f"SELECT * FROM {name}")))
                for name in sorted(names)
            }

    assert yeldro("demo", "--build-only").status == 0
    start = (tmp_path / "larkwater" / "gauges.db").read_bytes()
    for name in CLEANUPS:
        place = [f"larkwater/{name}", "--db", "larkwater/gauges.db", "--no-archive"]
        script = yeldro("script", *place)
        assert script.status == 0, script.err
        assert (tmp_path / "larkwater" / "gauges.db").read_bytes() == start
        (tmp_path / "other.db").write_bytes(start)
        assert Server("sqlite", str(tmp_path / "other.db"), '"').client(script.out).stderr == ""
        assert (
            json.loads(yeldro("run", *place, "--yes", "--format", "json").out)["outcome"]
            == "committed"
        )
        assert rows(tmp_path / "other.db") == rows(tmp_path / "larkwater" / "gauges.db"), name
        (tmp_path / "larkwater" / "gauges.db").write_bytes(start)
