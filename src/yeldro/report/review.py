"""A review of a script as text."""

from __future__ import annotations

from collections.abc import Iterator

from rich.console import RenderableType
from rich.padding import Padding
from rich.text import Text

from yeldro.core.model.plural import count
from yeldro.core.review.verdict import Review, Verdict
from yeldro.report.grids import render_grid
from yeldro.words.tell import tell


def render_review(review: Review) -> Iterator[RenderableType]:
    for place, verdict in enumerate(one for one in review.verdicts if one.reach or one.unjudged):
        yield Text(
            f"{chr(10) if place else ''}line {verdict.written.line}: "
            f"{_first_line(verdict.written.text)}",
            style="bold",
        )
        yield from _verdict(verdict)
    if review.proposed:
        yield Text("\nThe order that can work", style="bold")
        for written in review.proposed:
            yield Text(f"  line {written.line}: {_first_line(written.text)}")
    found = sum(verdict.has_findings for verdict in review.verdicts)
    yield Text(
        f"\n{count(len(review.verdicts), 'statement')}, {found} with findings. Nothing was run."
    )


def _verdict(verdict: Verdict) -> Iterator[RenderableType]:
    if verdict.unjudged:
        yield Text(f"  not judged: {verdict.unjudged}", style="bold red")
    reach = verdict.reach
    if reach is None:
        return
    yield Text(
        f"  {reach.matched:,} of {count(reach.table_rows, 'row')} of {reach.selection.table.label} "
        "match"
    )
    parts = [part for part in reach.parts if part.rows]
    if len(parts) > 1:
        yield render_grid(
            ("#", "table", "rows", "action"),
            [
                (place, part.table.label, part.rows, part.action.value)
                for place, part in enumerate(parts, 1)
            ],
            right=("#", "rows"),
        )
    for fault in map(tell, verdict.faults):
        yield Padding(Text(fault, style="red"), (0, 0, 0, 2))
    for note in map(tell, verdict.notes):
        yield Text(f"  {note}")
    for caution in (*verdict.doubts, *verdict.cautions):
        yield Padding(
            Text.assemble((f"{caution.name}: ", "bold"), tell(caution.found)), (0, 0, 0, 2)
        )


def _first_line(text: str) -> str:
    line = " ".join(text.split())
    return line if len(line) <= 100 else f"{line[:99]}…"
