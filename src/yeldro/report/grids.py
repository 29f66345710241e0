"""Plain tables: a bold heading over columns, numbers on the right, no frames."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import Any

from rich.padding import Padding
from rich.table import Table as Grid
from rich.text import Text

from yeldro.core.model.visible import make_visible, one_line
from yeldro.report.cells import is_number, render_cell


def render_grid(
    titles: Sequence[str], rows: Iterable[Sequence[Any]], right: Sequence[str] = ()
) -> Padding:
    """A table with a title over each column; those in `right` stand on the right. Cells are Text or
    plain values."""
    grid = Grid(box=None, pad_edge=False, padding=(0, 2, 0, 0), header_style="bold")
    for title in titles:
        grid.add_column(
            Text(one_line(title)), justify="right" if title in right else "left", overflow="fold"
        )
    for row in rows:
        grid.add_row(*(_as_shown(cell if isinstance(cell, Text) else _plain(cell)) for cell in row))
    return Padding(grid, (0, 0, 0, 2), expand=False)


def _plain(cell: Any) -> Text:
    return Text(f"{cell:,}" if isinstance(cell, int) else str(cell))


def _as_shown(cell: Text) -> Text:
    """What it is measured by must be what is shown."""
    plain = make_visible(cell.plain)
    return cell if plain == cell.plain else Text(plain, style=cell.style)


def render_rows(
    columns: Sequence[str], rows: Sequence[Sequence[Any]], width: int, first: int = 1
) -> Padding:
    """Rows of a database table. Where they are wider than `width`, the last columns are left out
    and named.

    At least the `first` columns are kept.
    """
    cells = [[render_cell(value) for value in row] for row in rows]
    kept, used = 0, 2
    for place, name in enumerate(columns):
        used += 2 + max([len(name), *(row[place].cell_len for row in cells)])
        if used > width and place >= first:
            break
        kept += 1
    right = [
        name
        for place, name in enumerate(columns)
        if any(is_number(row[place]) for row in rows)
        and all(row[place] is None or is_number(row[place]) for row in rows)
    ]
    return render_grid(columns[:kept], [row[:kept] for row in cells], right)


def left_out(columns: Sequence[str], shown: Padding) -> Sequence[str]:
    """The columns for which `render_rows` had no room."""
    grid = shown.renderable
    assert isinstance(grid, Grid)
    return columns[len(grid.columns) :]
