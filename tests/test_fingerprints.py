"""Run records that somebody changed, and those that only Yeldro did."""

from __future__ import annotations

import json
import shutil
from collections.abc import Callable
from pathlib import Path

import pytest

from tests.conftest import Yeldro
from yeldro.store.run_record import read_record

pytestmark = pytest.mark.usefixtures("gauges")
LINES = [
    ["delete", "readings", "--key", "1"],
    ["delete", "sensors", "--key", "999", "--no-archive"],  # nothing matched: no record
    ["delete", "readings", "--where", "id < 40", "--batch", "2", "--batches", "1"],
    ["delete", "readings", "--key", "50"],
]


def run_some(yeldro: Yeldro, folder: Path) -> list[Path]:
    """The records of three runs, the first one first. The one in batches was resumed, and the first
    one restored."""
    for line in LINES:
        assert yeldro(*line, "--yes").status == 0
    first, middle, last = sorted(
        (path.parent for path in folder.glob("yeldro-runs/*/run.json")),
        key=lambda path: json.loads((path / "run.json").read_text())["began"],
    )
    assert yeldro("resume", middle.name, "--yes").status == 0
    assert yeldro("restore", first.name, "--yes").status == 0
    return [first, middle, last]


def verify(yeldro: Yeldro, *arguments: str) -> tuple[int, dict[str, list[str]]]:
    found = yeldro("history", *arguments, "--verify", "--format", "json")
    records = json.loads(found.out)["records"]
    assert all(one["marked"] for one in records)
    return found.status, {one["run"]: one["faults"] for one in records if one["faults"]}


def edit(path: Path, old: str, new: str) -> None:
    text = path.read_text()
    assert old in text
    path.write_text(text.replace(old, new))


def forge(path: Path) -> None:
    """What was said of a run is another thing, with a fingerprint that fits."""
    record = read_record(path.parent)
    record.facts["by"] = "nobody"
    record.facts["fingerprints"]["earlier"] = []
    record.facts["fingerprints"]["record"] = record.find_digest()
    path.write_text(json.dumps(record.facts))


def test_what_yeldro_does_leaves_the_records_whole(yeldro: Yeldro, tmp_path: Path) -> None:
    first, _, last = run_some(yeldro, tmp_path)
    assert verify(yeldro) == (0, {})
    assert yeldro("history", first.name, "--drop", "--yes").status == 0
    assert verify(yeldro, last.name) == verify(yeldro) == (0, {})
    assert yeldro("restore", last.name, "--yes").status == 0
    assert verify(yeldro) == (0, {})


@pytest.mark.parametrize(
    ("place", "change", "faulty", "told"),
    [
        (0, lambda run: edit(run / "run.json", '"rows": 1', '"rows": 2'), 0, "run.json was"),
        (1, lambda run: edit(run / "run.sql", "DELETE", "delete"), 1, "run.sql was changed"),
        (1, lambda run: (run / "keys.sqlite").unlink(), 1, "keys.sqlite is missing"),
        (1, lambda run: edit(run / "batches.jsonl", '"rows": 2', '"rows": 1'), 1, "batches.jsonl"),
        (2, lambda run: edit(run / "run.json", '"committed"', '"rolled-back"'), 2, "run.json was"),
        (2, lambda run: (run / "batches.jsonl").touch(), 2, "batches.jsonl was added"),
        (0, lambda run: forge(run / "run.json"), 1, "the record before it"),
        (0, shutil.rmtree, 1, "is missing"),
    ],
)
def test_what_somebody_else_changed_is_told(
    yeldro: Yeldro,
    tmp_path: Path,
    place: int,
    change: Callable[[Path], object],
    faulty: int,
    told: str,
) -> None:
    runs = run_some(yeldro, tmp_path)
    change(runs[place])
    status, faults = verify(yeldro)
    assert (status, list(faults)) == (3, [runs[faulty].name])
    assert told in faults[runs[faulty].name][0]


def test_a_record_that_cannot_be_read_is_no_whole_one(yeldro: Yeldro, tmp_path: Path) -> None:
    *_, last = run_some(yeldro, tmp_path)
    (last / "run.json").write_text("{")
    found = yeldro("history", "--verify")
    assert (found.status, "no run record that can be read" in found.err) == (3, True)


def test_a_restoration_does_not_cover_up_what_was_changed(yeldro: Yeldro, tmp_path: Path) -> None:
    *_, last = run_some(yeldro, tmp_path)
    edit(last / "run.json", '"by": "', '"by": "x')
    assert yeldro("restore", last.name, "--yes").status == 3
    assert yeldro("restore", last.name, "--yes", "--even-if-altered").status == 0
    assert verify(yeldro) == (3, {last.name: ["run.json was changed"]})
