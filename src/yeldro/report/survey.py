"""A survey as text."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

from rich.console import RenderableType
from rich.text import Text

from yeldro.core.model.plural import count
from yeldro.core.model.schema import Reference
from yeldro.core.survey.survey import SAMPLE, TableSurvey
from yeldro.report.cautions import render_cautions
from yeldro.report.cells import cut, render_cell
from yeldro.report.grids import left_out, render_grid, render_rows


def render_survey(
    database: str, tables: Sequence[TableSurvey], width: int
) -> Iterator[RenderableType]:
    """The overview, or a close look at each table that was named."""
    if tables and tables[0].close is not None:
        for one in tables:
            yield from _closely(one, width)
        return
    views = sum(one.table.kind == "view" for one in tables)
    more = f" and {count(views, 'view')}" if views else ""
    yield Text(f"{database}: {count(len(tables) - views, 'table')}{more}", style="bold")
    yield ""
    rows = [
        (
            one.table.label,
            "view" if one.rows is None else one.rows,
            "" if one.rows is None else _key(one),
            len(one.references),
            len(one.referenced_by),
            ", ".join(trigger.name for trigger in one.table.triggers),
        )
        for one in tables
    ]
    yield render_grid(
        ("table", "rows", "key", "refs out", "refs in", "triggers"),
        rows,
        right=("rows", "refs out", "refs in"),
    )
    references = [reference for one in tables for reference in one.references]
    if references:
        yield Text(
            "\nReferences, and what happens when the row they point at is deleted", style="bold"
        )
        yield render_grid(
            ("reference", "on delete", "index"), [_reference(one) for one in references]
        )
    yield from render_cautions([caution for one in tables for caution in one.cautions])
    yield Text("\nNext: yeldro survey TABLE looks closely at one.", style="dim")


def _key(one: TableSurvey) -> Text:
    return Text(", ".join(one.table.key)) if one.table.key else Text("none", style="yellow")


def _reference(reference: Reference) -> tuple[Any, ...]:
    index = Text("yes") if reference.is_indexed else Text("none", style="yellow")
    return (
        str(reference),
        reference.on_delete.value,
        Text(reference.broken, style="red") if reference.broken else index,
    )


def _closely(one: TableSurvey, width: int) -> Iterator[RenderableType]:
    assert one.close is not None
    table = one.table
    key = f", key {', '.join(table.key)}" if table.key else ", no key"
    yield Text(
        f"{table.label}: "
        f"{count(one.rows or 0, 'row')}{key if table.kind == 'table' else ', a view'}",
        style="bold",
    )
    yield ""
    yield render_grid(
        ("column", "type", "NULLs", "different", "smallest", "largest"),
        [
            (
                column.name,
                cut(
                    column.type
                    + ("" if column.nullable else " NOT NULL")
                    + (" generated" if column.generated else "")
                ),
                profile.nulls,
                "" if profile.distinct is None else profile.distinct,
                Text("") if profile.smallest is None else render_cell(profile.smallest, 24),
                Text("") if profile.largest is None else render_cell(profile.largest, 24),
            )
            for column, profile in one.close.columns
        ],
        right=("NULLs", "different"),
    )
    if one.close.odd:
        yield Text("\nValues of another kind", style="bold")
        odd = [
            (name, kind, rows)
            for name, kinds in one.close.odd.items()
            for kind, rows in kinds.items()
        ]
        yield render_grid(("column", "holds", "rows"), odd, right=("rows",))
    if one.close.unique:
        sets = "; ".join(" + ".join(names) for names in one.close.unique)
        yield Text(f"\nUnique in the data: {sets}")
    elif one.rows and one.rows > 1:
        yield Text("\nUnique in the data: no column and no pair of columns")
    yield from _references("References to other tables", one.references)
    yield from _references("Referenced by", one.referenced_by)
    if table.triggers:
        yield Text("\nTriggers", style="bold")
        yield render_grid(
            ("trigger", "runs"),
            [(trigger.name, trigger.event.lower()) for trigger in table.triggers],
        )
    if one.close.sample:
        shown = render_rows(table.column_names, one.close.sample, width)
        yield Text(f"\nThe first {count(min(SAMPLE, len(one.close.sample)), 'row')}", style="bold")
        yield shown
        if more := left_out(table.column_names, shown):
            yield Text(f"  (no room for {', '.join(more)})", style="dim")
    yield from render_cautions(one.cautions)
    yield ""


def _references(title: str, references: Sequence[Reference]) -> Iterator[RenderableType]:
    if references:
        yield Text(f"\n{title}", style="bold")
        yield render_grid(
            ("reference", "on delete", "index"), [_reference(one) for one in references]
        )
