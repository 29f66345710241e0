"""What yeldro.toml adds: references that the schema does not declare, and databases that ask for
their name."""

from __future__ import annotations

import json
import subprocess
import sys
from pathlib import Path

import pytest

from tests.conftest import Yeldro, digest
from tests.test_deletions import counts

LINES = '\n[[references]]\nfrom = "logger_lines.sensor_code"\nto = "sensors.code"\nrule = "{}"\n'


def test_a_survey_proposes_references_that_the_values_bear_out(
    yeldro: Yeldro, gauges: Path
) -> None:
    out = yeldro("survey").out
    assert (
        "logger_lines.sensor_code -> sensors.code: By its name, type and values (6 of 6 fit)" in out
    )
    proposed = out.split("Lines for yeldro.toml")[1]
    assert 'from = "logger_lines.sensor_code"\n  to   = "sensors.code"\n' in proposed
    toml = gauges.parent / "yeldro.toml"
    toml.write_text(toml.read_text() + LINES.format("delete"))
    assert "undeclared-reference" not in yeldro("survey").out


@pytest.mark.parametrize(
    ("rule", "status", "gone", "left"),
    [("delete", 0, 90, 150), ("detach", 0, 0, 240), ("stop", 3, 0, 240)],
)
def test_an_undeclared_reference_is_followed_by_its_rule(
    yeldro: Yeldro, gauges: Path, rule: str, status: int, gone: int, left: int
) -> None:
    toml = gauges.parent / "yeldro.toml"
    toml.write_text(toml.read_text() + LINES.format(rule))
    arguments = ["sensors", "--where", "station_id IN (7, 21)", "--dependents", "stations=detach"]
    arguments += ["--dependents", "sensors=detach"]
    result = yeldro("delete", *arguments, "--yes", "--format", "json")
    document = json.loads(result.out)
    assert result.status == status, document["reason"]
    assert counts(gauges)["logger_lines"] == left
    lines = {line["table"]: line for line in document["tally"]}
    if status == 0:
        assert (lines["logger_lines"]["deleted"], lines["logger_lines"]["expected"]) == (gone, 90)
        assert lines["logger_lines"]["balanced"]
    else:
        assert "90 rows of logger_lines block the delete" in document["reason"]


PROTECTED = [
    (["--yes"], 2, "--confirm gauges"),
    (["--yes", "--confirm", "gauge"], 2, "protected"),
    (["--yes", "--confirm", "gauges"], 0, ""),
    (["--rehearse"], 0, ""),
]


@pytest.mark.parametrize(("flags", "status", "said"), PROTECTED, ids=str)
def test_a_protected_database_asks_for_its_name(
    yeldro: Yeldro, gauges: Path, flags: list[str], status: int, said: str
) -> None:
    toml = gauges.parent / "yeldro.toml"
    toml.write_text(toml.read_text() + "protect = true\n")
    before = digest(gauges)
    result = yeldro("delete", "readings", "--key", "1", *flags)
    assert (result.status, said in result.err) == (status, True)
    assert (digest(gauges) == before) == (flags[-1] != "gauges")


def test_a_map_shows_order_cycles_and_counts(yeldro: Yeldro, gauges: Path) -> None:
    document = yeldro("map", "--format", "json").document
    order = {table["name"]: table["order"] for table in document["tables"]}
    assert order["readings"] < order["sensors"] < order["rivers"] < order["regions"]
    assert document["cycles"] == [["sensors", "stations"], ["sensors"]]
    chosen = ["rivers", "--where", "id = 1", "--dependents", "delete"]
    counted = yeldro("map", *chosen, "--format", "json").document
    preview = yeldro("preview", *chosen, "--format", "json").document
    assert {table["name"]: table["counts"]["delete"] for table in counted["tables"]} == {
        part["table"]: part["rows"] for part in preview["reach"]
    }
    text = yeldro("map", "observers").out
    assert text.startswith("observers in gauges (gauges.db) and what depends on it: 3 tables")
    assert gauges.exists()


def run_alone(*line: str) -> subprocess.CompletedProcess[str]:
    """A command in the working folder, with nobody to ask."""
    command = [sys.executable, "-m", "yeldro", *line]
    return subprocess.run(
        command, capture_output=True, text=True, stdin=subprocess.DEVNULL, check=False
    )


def test_a_run_is_found_from_another_folder(
    yeldro: Yeldro,
    gauges: Path,
    monkeypatch: pytest.MonkeyPatch,
    tmp_path_factory: pytest.TempPathFactory,
) -> None:
    """Beside the database that it was in, before anybody is asked for."""
    assert yeldro("delete", "alerts", "--key", "3", "--yes").status == 0
    (run,) = [path.name for path in (gauges.parent / "yeldro-runs").iterdir()]
    monkeypatch.chdir(tmp_path_factory.mktemp("elsewhere"))
    monkeypatch.setenv("YELDRO_DB", str(gauges))
    lost, asked = run_alone("restore", "nothing"), run_alone("restore", run)
    assert (lost.returncode, "There is no run 'nothing' in" in lost.stderr) == (2, True)
    assert (asked.returncode, "not a terminal" in asked.stderr) == (2, True), asked.stderr
    assert f"Run {run}, committed" in run_alone("history", run).stdout
    assert run_alone("restore", run, "--yes").returncode == 0
