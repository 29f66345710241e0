"""Reports: one page that stands alone, and holds nothing that somebody else could run."""

from __future__ import annotations

import sqlite3
from contextlib import closing
from html.parser import HTMLParser
from pathlib import Path

import pytest

from tests.conftest import Yeldro
from yeldro.demo.cleanups import CLEANUPS

HOSTILE = "<script>alert(1)</script>&\"'"
# Elements without an end.
VOID = {"meta"}


class Checked(HTMLParser):
    """A page as its elements: each is closed in its turn, and nothing comes from elsewhere."""

    def __init__(self, text: str) -> None:
        super().__init__()
        self.open: list[str] = []
        self.texts: dict[str, list[str]] = {}
        self.names: set[str] = set()
        self.feed(text)
        self.close()
        assert self.open == []

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        assert tag not in ("script", "link", "img", "iframe", "object")
        for name, value in attrs:
            assert not name.startswith("on")
            if name.split(":")[-1] in ("href", "src"):
                assert str(value).startswith("#")
            if name == "id":
                assert value not in self.names
                self.names.add(str(value))
        if tag == "th":
            assert ("scope", "col") in attrs
        if tag not in VOID:
            self.open.append(tag)

    def handle_endtag(self, tag: str) -> None:
        assert self.open.pop() == tag

    def handle_data(self, data: str) -> None:
        if self.open:
            self.texts.setdefault(self.open[-1], []).append(data.strip())


@pytest.fixture
def demo(gauges: Path, tmp_path: Path) -> Path:
    for name, text in CLEANUPS.items():
        (tmp_path / name).write_text(text)
    return gauges


def report(yeldro: Yeldro, folder: Path, *arguments: str) -> Checked:
    (folder / "page.html").unlink(missing_ok=True)
    written = yeldro("report", *arguments, "-o", "page.html")
    assert (written.status, written.out) == (0, ""), written.err
    return Checked((folder / "page.html").read_text())


def test_a_report_on_a_run_tells_all_of_it(yeldro: Yeldro, demo: Path, tmp_path: Path) -> None:
    with closing(sqlite3.connect(demo)) as database, database:
        database.execute("UPDATE stations SET name = ? WHERE id = 10", (HOSTILE,))
    closed = ["stations", "--where", f"closed_on < '2019-01-01' AND name <> '{HOSTILE[0]}x'"]
    run = yeldro("delete", *closed, "--dependents", "photos=detach", "--yes")
    assert run.status == 0, run.err
    page = report(yeldro, tmp_path, "last")
    assert {"What was asked", "Tally", "Some of the rows", "Statements"} <= set(page.texts["h2"])
    assert HOSTILE in page.texts["td"]
    assert {"photos", "detach", "removals"} <= set(page.texts["td"])
    assert any("SHA-256" in one for one in page.texts["dt"])
    assert any(line.startswith("yeldro restore 20") for line in page.texts["pre"])
    assert {"Agreed by, on", "Run by, on"} <= set(page.texts["p"])
    assert "figcaption" in page.texts
    # The database is not needed.
    demo.unlink()
    assert report(yeldro, tmp_path, "last").texts["h2"] == page.texts["h2"]


@pytest.mark.usefixtures("demo")
def test_a_report_on_a_run_in_batches_and_on_one_without_a_copy(
    yeldro: Yeldro, tmp_path: Path
) -> None:
    line = ["delete", "readings", "--where", "id < 100", "--yes"]
    assert yeldro(*line, "--batch", "20").status == 0
    batches = report(yeldro, tmp_path, "last")
    assert "Batches" in batches.texts["h2"]
    assert "Rows a second, batch by batch." in batches.texts["figcaption"]
    assert yeldro("restore", "last", "--yes").status == 0
    assert "restored" in report(yeldro, tmp_path, "last").texts["dt"]
    assert yeldro(*line, "--no-archive").status == 0
    page = report(yeldro, tmp_path, "last")
    assert "Some of the rows" not in page.texts["h2"]
    assert not any("yeldro restore" in line for line in page.texts["pre"])


@pytest.mark.parametrize(
    ("name", "told"),
    [
        ("closed-stations.toml", "closed stations: what it would find"),
        ("observers-twice.toml", "6"),
        ("spring-cleaning.toml", "How many groups have how many rows."),
    ],
)
def test_a_report_on_a_cleanup_changes_nothing(
    yeldro: Yeldro, demo: Path, tmp_path: Path, name: str, told: str
) -> None:
    before = demo.read_bytes()
    page = report(yeldro, tmp_path, name)
    assert demo.read_bytes() == before
    assert any(told in texts for texts in page.texts.values()), page.texts
    assert f"yeldro run {name}" in page.texts["pre"]


@pytest.mark.usefixtures("demo")
@pytest.mark.parametrize(
    "line", [["report", "closed-stations.toml", "-o", "own"], ["map", "--draw", "own.svg"]]
)
def test_no_file_of_somebody_is_written_over(
    yeldro: Yeldro, tmp_path: Path, line: list[str]
) -> None:
    file = tmp_path / line[-1]
    file.write_text("mine")
    refused = yeldro(*line)
    assert (refused.status, file.read_text()) == (2, "mine")
    assert "is there already" in refused.err


@pytest.mark.usefixtures("demo")
@pytest.mark.parametrize("line", [["nothing"], ["no.toml"], ["last", "-o", "no/page.html"]])
def test_what_cannot_be_reported_is_told(yeldro: Yeldro, line: list[str]) -> None:
    assert yeldro("delete", "readings", "--key", "1", "--yes").status == 0
    assert yeldro("report", *line).status == 2
