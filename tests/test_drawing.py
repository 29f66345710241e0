"""Pictures that are written to a file."""

from __future__ import annotations

import sqlite3
from contextlib import closing
from pathlib import Path

import pytest

from tests.conftest import Yeldro

pytestmark = pytest.mark.usefixtures("gauges")
CLOSED = ["--where", "closed_on < '2019-01-01'"]


@pytest.mark.parametrize("kind", ["svg", "png", "pdf"])
def test_a_drawn_map_is_the_same_picture_each_time(
    yeldro: Yeldro, tmp_path: Path, kind: str
) -> None:
    pictures = []
    for number, chosen in enumerate((CLOSED, CLOSED, [])):
        file = tmp_path / f"{number}.{kind}"
        drawn = yeldro("map", "stations", *chosen, "--draw", str(file))
        assert (drawn.status, drawn.out) == (0, ""), drawn.err
        pictures.append(file.read_bytes())
    assert pictures[0] == pictures[1] != pictures[2]


@pytest.mark.parametrize(
    ("name", "told"), [("map.gif", "writes .svg, .png, .pdf"), ("no/map.svg", "cannot be written")]
)
def test_a_map_that_cannot_be_drawn_is_told(
    yeldro: Yeldro, tmp_path: Path, name: str, told: str
) -> None:
    drawn = yeldro("map", "--draw", str(tmp_path / name))
    assert (drawn.status, told in drawn.err) == (2, True), drawn.err


def test_letters_without_a_form_do_not_stop_a_picture(
    yeldro: Yeldro, gauges: Path, tmp_path: Path
) -> None:
    with closing(sqlite3.connect(gauges)) as database:
        database.execute('CREATE TABLE "漢$x$\x07" (id INTEGER PRIMARY KEY)')
    assert yeldro("map", "--draw", str(tmp_path / "map.png")).status == 0
