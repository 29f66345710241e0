"""What could be cleaned up, and where a value lives, as text."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence

from rich.console import RenderableType
from rich.text import Text

from yeldro.core.findings.finding import Findings, Way
from yeldro.core.findings.holding import Holdings
from yeldro.core.model.plural import count
from yeldro.core.model.schema import Table
from yeldro.core.model.visible import one_line
from yeldro.report.command_line import CommandLine
from yeldro.words.tell import tell

WriteLine = Callable[[Way], str]


def render_findings(
    database: str, findings: Findings, write_line: WriteLine
) -> Iterator[RenderableType]:
    """Each finding with the command under it that shows its rows, the table over them."""
    things = count(len(findings.found), "thing")
    yield Text(f"{database}: {things} that could be cleaned up", style="bold")
    for table in dict.fromkeys(one.table for one in findings.found):
        yield Text(f"\n{table.label}", style="bold")
        for one in findings.found:
            if one.table is table:
                yield Text(f"  {one_line(tell(one.found))}{_mark(one.sampled)}")
                yield CommandLine(write_line(one.way), "dim", 4)
    yield from _render_unseen(findings.unseen)


def render_holdings(
    database: str, holdings: Holdings, write_line: WriteLine
) -> Iterator[RenderableType]:
    """Each column that holds the value, with the command under it that shows its rows."""
    columns = count(len(holdings.found), "column")
    verb = "holds" if len(holdings.found) == 1 else "hold"
    yield Text(f"{database}: {columns} {verb} {one_line(repr(holdings.value))}", style="bold")
    if not holdings.found:
        yield Text("  (case and spaces count)", style="dim")
    for one in holdings.found:
        place = f"{one.holder.way.table.label}.{one.holder.column.name}"
        yield Text(f"\n  {one_line(place)}: {count(one.rows, 'row')}{_mark(one.sampled)}")
        yield CommandLine(write_line(one.holder.way), "dim", 4)
    yield from _render_unseen(holdings.unseen)


def _mark(sampled: int) -> str:
    """What says that there may be more."""
    return f" (among the first {sampled:,} rows)" if sampled else ""


def _render_unseen(unseen: Sequence[Table]) -> Iterator[RenderableType]:
    if unseen:
        names = ", ".join(table.label for table in unseen)
        yield Text(
            f"\nNot looked at to the end, because it took too long, or for want of rights: "
            f"{one_line(names)}. --wait gives a table more seconds."
        )
