"""How results look where there is little room, and what is never shown otherwise than it is."""

from __future__ import annotations

import io
import os
import shlex
import subprocess
import sys
import time
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st
from rich.cells import cell_len
from rich.console import Console, RenderableType

from tests.conftest import Yeldro
from yeldro.cli import connect, waiting
from yeldro.cli.request import quote_word
from yeldro.core.database.phase import Phase
from yeldro.core.model.plural import percent
from yeldro.core.model.schema import Table, TableName
from yeldro.core.survey.survey import TableSurvey
from yeldro.report.cells import render_cell, render_column
from yeldro.report.command_line import fold_command
from yeldro.report.grids import render_grid, render_rows
from yeldro.report.survey import render_survey

WORDS = st.text(st.sampled_from("ab-'\" \\=ü漢"), min_size=1, max_size=30)


def show(part: RenderableType, width: int) -> str:
    console = Console(file=io.StringIO(), width=width, color_system=None, highlight=False)
    with console.capture() as captured:
        console.print(part, crop=False)
    return captured.get()


@given(st.lists(WORDS, min_size=1, max_size=12), st.integers(20, 200))
def test_a_folded_command_is_the_same_command(words: list[str], width: int) -> None:
    line = " ".join(map(quote_word, words))
    folded = fold_command(line, width, 2)
    # A shell drops a line break after a backslash; shlex does not know that.
    assert shlex.split(folded.replace("\\\n", "")) == words
    for one in folded.split("\n"):
        assert len(one) <= width or one.strip(" \\") in line


@given(
    st.lists(
        st.tuples(
            st.text("xy z", max_size=40), st.integers(0, 10**9), st.text("vw 漢", max_size=60)
        ),
        min_size=1,
        max_size=4,
    ),
    st.integers(24, 120),
    st.booleans(),
)
def test_every_word_is_shown_at_any_width(
    rows: list[tuple[str, int, str]], width: int, in_blocks: bool
) -> None:
    titles = ("because", "rows", "allowed by")
    grid = render_rows(titles, rows) if in_blocks else render_grid(titles, rows)
    shown = show(grid, width)
    flat = shown.replace("\n", "").replace(" ", "")
    for row in rows:
        for number in row[1:2]:
            assert (str(number) if in_blocks else f"{number:,}") in flat
    words = [word for row in rows for text in (row[0], row[2]) for word in text.split()]
    if all(cell_len(word) <= min(width - 24, 38) for word in words):
        assert all(word in shown for word in words)
    assert all(cell_len(line.rstrip()) <= max(width, 46) for line in shown.splitlines())


def test_a_phase_that_takes_long_is_told_on_a_terminal(monkeypatch: pytest.MonkeyPatch) -> None:
    class Terminal(io.StringIO):
        def isatty(self) -> bool:
            return True

    terminal = Terminal()
    monkeypatch.setattr(sys, "stderr", terminal)
    monkeypatch.setenv("TERM", "xterm")
    monkeypatch.setattr(waiting, "PATIENCE", 0.05)
    line = waiting.WaitingLine()
    line(Phase.MATCHING, "gates")
    line(Phase.DELETING, "weirs", 1200)
    time.sleep(0.6)
    line.clear()
    assert "deleting 1,200 rows of weirs" in terminal.getvalue()
    assert "gates" not in terminal.getvalue()
    written = terminal.getvalue()
    time.sleep(0.2)
    assert terminal.getvalue() == written


PHASES = [
    (["preview", "stations", "--where", "id = 10"], "MATCHING FOLLOWING LOOKING"),
    (["duplicates", "observers", "--same", "email", "--keep", "fullest"], "GROUPING LOOKING"),
    (["delete", "readings", "--orphans", "--yes"], "MATCHING DELETING CHECKING COMMITTING"),
    (["restore", "last", "--yes"], "COMPARING RESTORING CHECKING COMMITTING"),
    (["script", "orphans.toml"], "MATCHING DELETING CHECKING"),
]


def test_every_phase_is_told(yeldro: Yeldro, gauges: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    (gauges.parent / "orphans.toml").write_text(
        '[[steps]]\nname = "o"\ndelete = "photos"\norphans = true\n'
    )
    told: list[str] = []

    class Ear(waiting.WaitingLine):
        def __call__(self, phase: Phase, label: str = "", rows: int | None = None) -> None:
            told.append(phase.name)
            assert waiting.describe_phase(phase, label, rows)

    monkeypatch.setattr(connect, "LINE", Ear())
    for line, wanted in PHASES:
        told.clear()
        assert yeldro(*line).status in (0, 3)
        assert set(wanted.split()) <= set(told), line


@pytest.mark.parametrize(
    ("part", "whole", "told"),
    [(0, 9, "0.0 %"), (1, 10**6, "< 0.1 %"), (1, 3, "33.3 %"), (10**6 - 1, 10**6, "> 99.9 %"), (5, 5, "100.0 %")],
)  # fmt: skip
def test_a_share_is_never_none_or_all_by_rounding(part: int, whole: int, told: str) -> None:
    assert percent(part, whole) == told


def test_long_values_are_cut_where_it_does_not_hide_what_differs() -> None:
    alike = [f"{'the same beginning of a long text, ' * 3}{end}" for end in ("one", "two")]
    assert [cell.plain[-3:] for cell in render_column(alike)] == ["one", "two"]
    assert render_cell("x" * 99).plain == "x" * 39 + "…"
    assert render_cell(bytes(range(256)) * 4).plain.endswith("… (1,024 bytes)")
    assert render_cell(b"\x00\xff").plain == "X'00FF'"
    assert render_cell("漢" * 40).cell_len <= 40


def test_a_text_from_right_to_left_moves_nothing_beside_it() -> None:
    written = "נהר 7 שמאל"
    cells = render_column([written, "weir 7", f"{written} " * 9 + "א", f"{written} " * 9 + "ב"])
    assert [cell.plain.startswith("\u2068") for cell in cells] == [True, False, True, True]
    assert [cell.plain[-2:] for cell in cells[2:]] == ["א\u2069", "ב\u2069"]
    assert (cells[0].cell_len, cells[2].cell_len <= 40) == (len(written), True)


def test_an_overview_fits_the_screen() -> None:
    tables = [
        TableSurvey(
            Table(TableName("main", f"t{n}"), f"t{n}", "table", (), ("id",), ("id",)), n, (), (), ()
        )
        for n in range(150)
    ]
    whole = [show(part, 80) for part in render_survey("gauges", tables)]
    folded = "".join(show(part, 80) for part in render_survey("gauges", tables, 40))
    assert "".join(whole).count("\n") > 150
    assert folded.count("\n") < 40
    shown = sum(f"  t{n} " in folded for n in range(150))
    assert f"(and {150 - shown} more tables: --all shows them" in folded


@pytest.mark.parametrize(
    ("command", "spared"),
    [
        ("survey", "sqlglot yeldro.core.run.execute yeldro.engines.sqlite.archive"),
        ("preview readings --key 1", "sqlglot tomlkit yeldro.engines.sqlite.archive"),
        ("preview readings --where id=1", "tomlkit psycopg pymysql yeldro.core.review.verdict"),
        ("history", "sqlalchemy sqlglot"),
    ],
)
def test_a_command_imports_what_it_needs(gauges: Path, command: str, spared: str) -> None:
    code = (
        "import sys; from yeldro.cli.command_line import run_command_line as run\n"
        f"status = run({command.split()!r})\n"
        f"print('too much:', sorted({set(spared.split())!r} & sys.modules.keys()), status)"
    )
    done = subprocess.run(
        [sys.executable, "-c", code],
        cwd=gauges.parent,
        env={**os.environ, "YELDRO_DB": str(gauges)},
        capture_output=True,
        text=True,
    )
    assert "too much: [] 0" in done.stdout, done.stdout + done.stderr
