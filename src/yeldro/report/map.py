"""A map of tables as text."""

from __future__ import annotations

from collections.abc import Iterator

from rich.console import RenderableType
from rich.text import Text

from yeldro.core.model.schema import Reference, Table
from yeldro.core.survey.map import TableMap
from yeldro.report.cautions import render_cautions
from yeldro.report.cells import ACTION_STYLES
from yeldro.report.grids import count, render_grid


def render_map(database: str, found: TableMap, root: Table | None) -> Iterator[RenderableType]:
    """One line a reference; the tables stand in the order in which their rows can go."""
    what = f"{root.label} in {database} and what hangs on it" if root else database
    yield Text(
        f"{what}: {count(len(found.tables), 'table')}, those that go first on top", style="bold"
    )
    yield ""
    yield render_grid(
        ("#", "table", *(("rows",) if found.counts else ()), "references", "on delete", "circle"),
        list(_lines(found)),
        right=("#",),
    )
    if found.circles:
        yield Text("\nCircles", style="bold")
        rows = [(number, _describe(circle)) for number, circle in enumerate(found.circles, 1)]
        yield render_grid(("#", "tables"), rows, right=("#",))
    yield from render_cautions(found.cautions)


def _lines(found: TableMap) -> Iterator[list[object]]:
    numbers = {
        table: [n for n, circle in enumerate(found.circles, 1) if table in circle]
        for table in found.tables
    }
    for place, table in enumerate(found.tables, 1):
        own: list[Reference | None] = [
            reference for reference in found.references if reference.child is table
        ]
        rows = [_counts(found, table)] if found.counts else []
        circle = Text(", ".join(map(str, numbers[table])), style="yellow")
        first: list[object] = [place, table.label, *rows]
        for reference in own or [None]:
            shown = (
                [str(reference).partition(".")[2], reference.on_delete.value]
                if reference
                else ["", ""]
            )
            yield [*first, *shown, circle]
            first, circle = [""] * len(first), Text("")


def _counts(found: TableMap, table: Table) -> Text:
    parts = [
        Text(f"{action} {rows:,}", style=ACTION_STYLES[action])
        for action, rows in found.counts.get(table, {}).items()
        if rows
    ]
    return Text(", ").join(parts) if parts else Text("-", style="dim")


def _describe(circle: tuple[Table, ...]) -> str:
    if len(circle) == 1:
        return f"{circle[0].label} references itself"
    return f"{', '.join(table.label for table in circle)} reference each other"
