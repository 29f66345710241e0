"""Duplicates through the command line, on the demo database."""

from __future__ import annotations

import sqlite3
from contextlib import closing
from pathlib import Path

import pytest

from tests.conftest import Yeldro, digest


def test_groups_side_by_side(yeldro: Yeldro, gauges: Path) -> None:
    before = digest(gauges)
    line = ["duplicates", "readings", "--same", "sensor_id, measured_at", "--keep", "newest upload"]
    document = yeldro(*line, "--groups", "1", "--format", "json").document
    assert [document[name] for name in ("groups", "rows", "kept", "surplus")] == [
        672,
        1344,
        672,
        672,
    ]
    (first,) = document["listing"]
    assert (first["decided_by"], first["differs"]) == ("newest upload", ["id", "upload"])
    assert [first["keep"]["upload"], first["surplus"][0]["upload"]] == [9, 8]
    out = yeldro(*line, "--groups", "2").out
    assert out.count("kept by newest upload") == 2
    assert "670 more groups" in out
    assert yeldro("duplicates", "observers", "--same", "id").out.startswith(
        "observers in gauges (gauges.db): 0 groups"
    )
    out = yeldro("duplicates", "stations", "--same", "river_id", "--where", "river_id = 1").out
    assert (
        "stations in gauges (gauges.db): 1 group" in out,
        "5 sensors" in out,
        "fullest" in out,
    ) == (True,) * 3
    out = yeldro("duplicates", "logger_lines", "--same", "all", "--groups", "1").out
    assert "with the same values in every column" in out
    assert "60 are surplus" in out
    proposed = yeldro("duplicates", "readings", "--format", "json").document["proposals"]
    assert {"same": ["sensor_id", "measured_at"], "rows": 20688, "surplus": 672} in proposed
    assert "sensor_id,measured_at" in yeldro("duplicates", "readings").out
    assert "No columns" in yeldro("duplicates", "regions").out
    lines = yeldro(
        "duplicates", "stations", "--same", "river_id", "--format", "csv"
    ).out.splitlines()
    assert (lines[0][:22], len(lines)) == ("group,verdict,id,code,", 43)
    assert sum(",stays," in line for line in lines) == 9
    assert digest(gauges) == before


@pytest.mark.usefixtures("gauges")
@pytest.mark.parametrize(
    ("options", "said"),
    [
        (["--same", "nothing"], "no column 'nothing'"),
        (["--same", ","], "names no column"),
        (["--same", "id", "--keep", "best"], "'best' is not a rule"),
        (["--same", "id", "--ignore", "colour"], "cannot be ignored"),
        (["--same", "1 + 1"], "names no column"),
        (["--same", "id", "--keep", "fullest", "--dependents", "declared"], "no known rule"),
        (["--same", "id", "--keep", "newest"], "'newest' is not a rule"),
        (["--same", "id", "--keep", "newest nothing"], "no column 'nothing'"),
        (["--same", "id", "--keep", "where nothing = 1, fullest"], "nothing"),
        (["--same", "id", "--where", "nothing = 1"], "nothing"),
    ],
)
def test_what_cannot_be_right_is_told(yeldro: Yeldro, options: list[str], said: str) -> None:
    result = yeldro("duplicates", "stations", *options)
    assert (result.status, said in result.err) == (2, True), result.err


def test_what_could_not_be_brought_back_is_refused(yeldro: Yeldro, tmp_path: Path) -> None:
    with closing(sqlite3.connect(tmp_path / "a.db")) as connection:
        connection.executescript(
            "CREATE TABLE weirs (id INTEGER PRIMARY KEY, name TEXT, code TEXT UNIQUE);"
            "CREATE TABLE slips (code TEXT REFERENCES weirs (code));"
            "INSERT INTO weirs VALUES (1, 'a', NULL), (2, 'a', 'A'); INSERT INTO slips VALUES ('A');"
        )
    line = ["dedupe weirs --same name --keep", "lowest id", "--fill", "--yes", "--db", "a.db"]
    before = digest(tmp_path / "a.db")
    result = yeldro(*line)
    assert (result.status, "slips has no key" in result.err, digest(tmp_path / "a.db")) == (
        3,
        True,
        before,
    )
    assert yeldro(*line, "--no-archive").status == 0
