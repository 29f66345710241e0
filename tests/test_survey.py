"""What a survey tells, where the database is found, and the oddities of SQLite's catalogue."""

from __future__ import annotations

import sqlite3
from pathlib import Path

import pytest

from tests.conftest import Yeldro

ODD = """
CREATE TABLE "Main Gauge" (rowid TEXT, oid TEXT, label TEXT);
CREATE TABLE pairs (a INT, b INT, PRIMARY KEY (b, a)) WITHOUT ROWID;
CREATE TABLE loose (code TEXT PRIMARY KEY, twice INT GENERATED ALWAYS AS (weight * 2), weight INT);
CREATE TABLE "kids" (x INT, y INT, z INT REFERENCES nowhere, w INT REFERENCES loose (weight),
  l TEXT REFERENCES LOOSE ON DELETE SET NULL, FOREIGN KEY (x, y) REFERENCES Pairs ON DELETE CASCADE);
CREATE VIRTUAL TABLE words USING fts5 (word);
INSERT INTO "Main Gauge" VALUES ('same', 'same', 'one'), ('same', 'same', 'two');
INSERT INTO loose (code, weight) VALUES (NULL, 1), (NULL, 2);
INSERT INTO pairs VALUES (1, 2); INSERT INTO kids VALUES (2, 1, NULL, NULL, NULL), (2, NULL, NULL, NULL, NULL);
"""


@pytest.fixture
def odd(tmp_path: Path) -> Path:
    connection = sqlite3.connect(tmp_path / "odd.db")
    connection.executescript(ODD)
    connection.close()
    return tmp_path / "odd.db"


def test_the_oddities_of_a_catalogue(yeldro: Yeldro, odd: Path) -> None:
    survey = yeldro("survey", "--db", odd.name, "--format", "json").document
    tables = {table["name"]: table for table in survey["tables"]}
    assert (tables["pairs"]["key"], tables["loose"]["key"], tables["Main Gauge"]["key"]) == (
        ["b", "a"],
        ["code"],
        [],
    )
    assert tables["words"]["type"] == "virtual table"
    references = {one["reference"]: one["broken"] for one in tables["kids"]["references"]}
    assert references == {
        "kids.z -> nowhere.?": "The table nowhere does not exist",
        "kids.w -> loose.weight": "The referred columns of loose are not unique",
        "kids.l -> loose.code": None,
        "kids.(x, y) -> pairs.(b, a)": None,
    }
    found = {one["subject"]: one["name"] for one in tables["kids"]["cautions"]}
    assert found["kids.z -> nowhere.?"] == "unenforced-reference"
    assert found["kids.(x, y) -> pairs.(b, a)"] == "unindexed-reference"


ODD_DELETIONS = [
    (["main gauge", "--where", "label = 'two'"], '"Main Gauge"', 1),
    (["loose", "--where", "weight = 2"], "loose", 1),
    (["pairs", "--key", "2,1"], "kids", 1),
    (["kids", "--where", "y IS NULL"], "kids", 1),
]


@pytest.mark.parametrize(("arguments", "table", "left"), ODD_DELETIONS, ids=str)
def test_odd_tables_lose_exactly_the_matched_rows(
    yeldro: Yeldro, odd: Path, arguments: list[str], table: str, left: int
) -> None:
    """Row numbers behind user columns named rowid, NULL keys, keys in another order, parts that are
    NULL."""
    connection = sqlite3.connect(odd)
    connection.executescript("ALTER TABLE kids DROP COLUMN z; ALTER TABLE kids DROP COLUMN w")
    result = yeldro("delete", *arguments, "--yes", "--expect", "1", "--all-rows", "--db", odd.name)
    assert result.status == 0, result.err
    assert connection.execute(f"SELECT count(*) FROM {table}").fetchone()[0] == left
    connection.close()


def test_the_text_of_a_close_look(yeldro: Yeldro, gauges: Path) -> None:
    out = yeldro("survey", "calibrations").out
    assert out.startswith("calibrations: 292 rows, key sensor_id, number\n")
    assert "Unique in the data: sensor_id + performed_on; sensor_id + number" in out
    assert (
        "alerts.(sensor_id, calibration_number) -> calibrations.(sensor_id, number)  SET NULL"
        in out
    )
    whole = yeldro("survey").out
    assert whole.startswith("gauges (gauges.db): 12 tables and 1 view\n")
    assert [
        line.split()[1] for line in whole.splitlines() if line.strip().startswith("readings ")
    ] == ["20,688"]
    assert "\x1b" not in out + whole
    assert gauges.exists()


PLACES = [
    (["--db", "gauges.db"], {}, "gauges.db"),
    (["--db", "sqlite:///gauges.db"], {}, "gauges.db"),
    (["--db", "gauges"], {}, "gauges"),
    ([], {}, "gauges"),
    ([], {"YELDRO_DB": "sub/other.db"}, "sub/other.db"),
    (["--db", "gauges"], {"YELDRO_DB": "nowhere.db"}, "gauges"),
]


@pytest.mark.parametrize(("arguments", "environment", "name"), PLACES, ids=str)
def test_where_the_database_is_found(
    yeldro: Yeldro,
    gauges: Path,
    monkeypatch: pytest.MonkeyPatch,
    arguments: list[str],
    environment: dict[str, str],
    name: str,
) -> None:
    (gauges.parent / "sub").mkdir()
    (gauges.parent / "sub" / "other.db").write_bytes(gauges.read_bytes())
    for key, value in environment.items():
        monkeypatch.setenv(key, value)
    document = yeldro("survey", *arguments, "--format", "json").document
    assert (document["database"], len(document["tables"])) == (name, 13)


def test_a_file_above_the_working_folder_counts_from_its_own_folder(
    yeldro: Yeldro, gauges: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    (gauges.parent / "a" / "b").mkdir(parents=True)
    monkeypatch.setattr(Path, "cwd", lambda: gauges.parent / "a" / "b")
    assert yeldro("survey", "rivers").status == 0
    (gauges.parent / "yeldro.toml").unlink()
    result = yeldro("survey")
    assert (result.status, "YELDRO_DB" in result.err) == (2, True)
