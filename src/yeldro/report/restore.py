"""What a restoration would do, as text."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

from rich.console import RenderableType
from rich.text import Text

from yeldro.core.restore.plan import RestorePart, RestorePlan
from yeldro.report.grids import render_grid
from yeldro.words.tell import tell

_COLUMNS = ("table", "archived", "restore", "step", "unchanged", "other values", "gone")


def render_plan(plan: RestorePlan) -> Iterator[RenderableType]:
    """One line for the deleted rows of each table, parents first, then one for rows that the run
    changed; for each step of a run, and for all batches of one together."""
    yield Text.assemble("Restore of ", (plan.run, "bold"), " into ", (plan.database, "bold"))
    yield Text("")
    several = len({part.stage.portion.step for part in plan.parts}) > 1
    rows = [_cells(part, several=several) for part in plan.parts]
    rows = list(_sum_up(rows)) if plan.in_batches else rows
    used = [
        place for place, name in enumerate(_COLUMNS) if place < 3 or any(row[place] for row in rows)
    ]
    titles = [_COLUMNS[place] for place in used]
    yield render_grid(titles, [[row[place] for place in used] for row in rows], right=titles[1:])
    for note in map(tell, plan.notes):
        yield Text(f"  {note}", style="bold")


def _sum_up(rows: Sequence[Sequence[Any]]) -> Iterator[list[Any]]:
    """A line for each name, without a step."""
    for name in dict.fromkeys(row[0] for row in rows):
        same = [row for row in rows if row[0] == name]
        sums = [sum(row[place] for row in same) for place in (1, 2, 4, 5, 6)]
        yield [name, *sums[:2], "", *sums[2:]]


def _cells(part: RestorePart, *, several: bool) -> list[Any]:
    standing, changed = part.standing, part.stage.portion.changed
    name = f"{part.table.label} ({', '.join(changed)})" if changed else part.table.label
    step = part.stage.portion.step if several else ""
    if part.waits:
        return [name, standing.rows - part.beside, part.to_do, step, 0, 0, 0]
    gone = standing.absent if changed else 0
    counts = [standing.rows - part.beside, part.to_do - part.again]
    return [name, *counts, step, standing.same, standing.differing, gone]
