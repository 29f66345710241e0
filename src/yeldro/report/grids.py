"""Plain tables: a bold heading over columns, numbers on the right, no frames. Where a table is too
narrow for its words it becomes a list."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from typing import Any

from msgspec import Struct
from rich.console import Console, ConsoleOptions, RenderableType, RenderResult
from rich.padding import Padding
from rich.table import Table
from rich.text import Text

from yeldro.core.model.visible import make_visible, one_line
from yeldro.report.cells import is_number, render_column

# Blanks before every line, and between two columns.
_INDENT, _GAP = 2, 2
# A text in a table takes at most so many lines, or the table becomes a list.
_TALLEST = 6


def render_grid(
    titles: Sequence[str],
    rows: Iterable[Sequence[Any]],
    right: Sequence[str] = (),
    *,
    in_blocks: bool = False,
) -> Grid:
    """A table with a title over each column; those in `right` stand on the right. Cells are Text or
    plain values."""
    cells = [
        [_as_shown(cell if isinstance(cell, Text) else _plain(cell)) for cell in row]
        for row in rows
    ]
    places = [title in right for title in titles]
    return Grid([one_line(title) for title in titles], cells, places, in_blocks)


def render_rows(columns: Sequence[str], rows: Sequence[Sequence[Any]]) -> Grid:
    """Rows of a database table. Where they are wider than the terminal, each becomes a block."""
    cells = [render_column([row[place] for row in rows]) for place in range(len(columns))]
    right = [
        any(is_number(row[place]) for row in rows)
        and all(row[place] is None or is_number(row[place]) for row in rows)
        for place in range(len(columns))
    ]
    titles = [one_line(name) for name in columns]
    return Grid(titles, [list(row) for row in zip(*cells, strict=True)], right, in_blocks=True)


def _plain(cell: Any) -> Text:
    return Text(f"{cell:,}" if isinstance(cell, int) else str(cell))


def _as_shown(cell: Text) -> Text:
    """What it is measured by must be what is shown."""
    plain = make_visible(cell.plain)
    return cell if plain == cell.plain else Text(plain, style=cell.style)


class Grid(Struct, frozen=True):
    """Titles over rows of cells. `right` says for each column whether it stands on the right;
    `in_blocks`, that a row that is too wide becomes a block of its values."""

    titles: Sequence[str]
    rows: Sequence[Sequence[Text]]
    right: Sequence[bool]
    in_blocks: bool = False

    def __rich_console__(self, console: Console, options: ConsoleOptions) -> RenderResult:
        room = options.max_width - _INDENT
        widths = self._find_widths(room)
        if widths:
            yield Padding(self._as_table(widths), (0, 0, 0, _INDENT), expand=False)
        elif self.in_blocks:
            yield from self._as_blocks(room)
        else:
            yield from self._as_list(room)

    def _find_widths(self, room: int) -> list[int]:
        """How wide each column is, [] where the words of some would have to be broken."""
        columns = [
            [Text(title), *(row[place] for row in self.rows)]
            for place, title in enumerate(self.titles)
        ]
        most = [max(map(_measure, cells)) for cells in columns]
        room -= _GAP * (len(columns) - 1)
        if sum(most) <= room:
            return most
        least = [max(_measure(title), *map(_measure_words, cells), 1) for title, *cells in columns]
        spare = room - sum(least)
        if self.in_blocks or spare < 0:
            return []
        wanted = sum(most) - sum(least)
        widths = [
            low + (high - low) * spare // wanted for low, high in zip(least, most, strict=True)
        ]
        is_low = all(high <= _TALLEST * width for high, width in zip(most, widths, strict=True))
        return widths if is_low else []

    def _as_table(self, widths: Sequence[int]) -> Table:
        table = Table(box=None, pad_edge=False, padding=(0, _GAP, 0, 0), header_style="bold")
        for title, width, on_right in zip(self.titles, widths, self.right, strict=True):
            table.add_column(
                Text(title), width=width, justify="right" if on_right else "left", overflow="fold"
            )
        for row in self.rows:
            table.add_row(*row)
        return table

    def _as_list(self, room: int) -> Iterable[RenderableType]:
        """Each row under its first cell, a line for each of the others that holds something."""
        skip = 2 if self.titles[0] == "#" else 1
        widest = max(map(len, self.titles[skip:]), default=0)
        for row in self.rows:
            head = Text("  ").join(cell for cell in row[:skip] if cell)
            yield Padding(Text.assemble((head.plain, "bold")), (0, 0, 0, _INDENT))
            block = Table(box=None, show_header=False, pad_edge=False, padding=(0, _GAP, 0, 0))
            block.add_column(width=widest, style="dim")
            block.add_column(width=max(1, room - widest - 2 * _GAP), overflow="fold")
            for title, cell in zip(self.titles[skip:], row[skip:], strict=True):
                if cell.plain:
                    block.add_row(title, cell)
            yield Padding(block, (0, 0, 0, _INDENT + _GAP), expand=False)

    def _as_blocks(self, room: int) -> Iterable[RenderableType]:
        """Each row as its names and values one after the other, as many in a line as there is room
        for."""
        for row in self.rows:
            line = Text(" " * _INDENT)
            for place, (title, cell) in enumerate(zip(self.titles, row, strict=True)):
                if not cell.plain:
                    continue
                pair = Text.assemble((f"{title}: ", "dim" if place else "bold"), cell)
                if line.cell_len > _INDENT + _GAP and line.cell_len + pair.cell_len > room:
                    yield line
                    line = Text(" " * (_INDENT + _GAP))
                line = Text.assemble(line, pair, " " * 3)
            yield line


def count_lines(parts: Iterable[RenderableType]) -> int:
    """About how many lines they take, where nothing has to be wrapped."""
    return sum(
        len(part.rows) + 1 if isinstance(part, Grid) else 1 + str(part).count("\n")
        for part in parts
    )


def _measure(cell: Text) -> int:
    return max((line.cell_len for line in cell.split("\n")), default=0)


def _measure_words(cell: Text) -> int:
    """The widest word, which is not to be broken; what stands in brackets or after an option goes
    with it."""
    return max((Text(word).cell_len for word in re.split(r"\s+", cell.plain)), default=0)
