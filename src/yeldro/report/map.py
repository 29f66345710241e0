"""A map of tables as text."""

from __future__ import annotations

from collections.abc import Iterator

from rich.console import RenderableType
from rich.text import Text

from yeldro.core.model.plural import count
from yeldro.core.model.schema import Reference, Table
from yeldro.core.survey.map import TableMap
from yeldro.report.cautions import render_cautions
from yeldro.report.cells import ACTION_STYLES
from yeldro.report.grids import render_grid


def render_map(database: str, found: TableMap, root: Table | None) -> Iterator[RenderableType]:
    """One line a reference; the tables stand in the order in which their rows can go."""
    what = f"{root.label} in {database} and what depends on it" if root else database
    yield Text(
        f"{what}: {count(len(found.tables), 'table')}, first to be deleted at the top", style="bold"
    )
    yield ""
    yield render_grid(
        ("#", "table", *(("rows",) if found.counts else ()), "references", "on delete", "cycle"),
        list(_lines(found)),
        right=("#",),
    )
    if found.cycles:
        yield Text("\nCycles", style="bold")
        rows = [(number, _describe(cycle)) for number, cycle in enumerate(found.cycles, 1)]
        yield render_grid(("#", "tables"), rows, right=("#",))
    yield from render_cautions(found.cautions)


def _lines(found: TableMap) -> Iterator[list[object]]:
    numbers = {
        table: [n for n, cycle in enumerate(found.cycles, 1) if table in cycle]
        for table in found.tables
    }
    for place, table in enumerate(found.tables, 1):
        own: list[Reference | None] = [
            reference for reference in found.references if reference.child is table
        ]
        rows = [_counts(found, table)] if found.counts else []
        cycle = Text(", ".join(map(str, numbers[table])), style="bold")
        first: list[object] = [place, table.label, *rows]
        for reference in own or [None]:
            shown = (
                [str(reference).partition(".")[2], reference.on_delete.value]
                if reference
                else ["", ""]
            )
            yield [*first, *shown, cycle]
            first, cycle = [""] * len(first), Text("")


def _counts(found: TableMap, table: Table) -> Text:
    parts = [
        Text(f"{action} {rows:,}", style=ACTION_STYLES[action])
        for action, rows in found.counts.get(table, {}).items()
        if rows
    ]
    return Text(", ").join(parts) if parts else Text("-", style="dim")


def _describe(cycle: tuple[Table, ...]) -> str:
    if len(cycle) == 1:
        return f"{cycle[0].label} references itself"
    return f"{', '.join(table.label for table in cycle)} reference each other"
