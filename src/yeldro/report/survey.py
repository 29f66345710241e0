"""A survey as text."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

from rich.console import RenderableType
from rich.text import Text

from yeldro.core.database.abilities import Row
from yeldro.core.database.column_profile import ColumnProfile
from yeldro.core.model.plural import count
from yeldro.core.model.schema import Column, Reference, Table
from yeldro.core.survey.survey import SAMPLE, Close, TableSurvey
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
    views = sum(table.table.kind == "view" for table in tables)
    more = f" and {count(views, 'view')}" if views else ""
    yield Text(f"{database}: {count(len(tables) - views, 'table')}{more}", style="bold")
    yield ""
    titles = ("table", "rows", "key", "refs out", "refs in", "triggers")
    yield render_grid(titles, map(_make_line, tables), right=("rows", "refs out", "refs in"))
    references = [reference for table in tables for reference in table.references]
    if references:
        yield Text(
            "\nReferences, and what happens when the row they point at is deleted", style="bold"
        )
        yield render_grid(("reference", "on delete", "index"), map(_reference, references))
    yield from render_cautions([caution for table in tables for caution in table.cautions])
    yield Text("\nNext: yeldro survey TABLE looks closely at one.", style="dim")


def _make_line(one: TableSurvey) -> tuple[object, ...]:
    is_view = one.rows is None
    return (
        one.table.label,
        "view" if is_view else one.rows,
        "" if is_view else _key(one),
        len(one.references),
        len(one.referenced_by),
        ", ".join(trigger.name for trigger in one.table.triggers),
    )


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
    table, close = one.table, one.close
    yield Text(f"{table.label}: {count(one.rows or 0, 'row')}, {_key_of(table)}", style="bold")
    yield ""
    titles = ("column", "type", "NULLs", "distinct", "smallest", "largest")
    rows = [_make_row(column, profile) for column, profile in close.columns]
    yield render_grid(titles, rows, right=("NULLs", "distinct"))
    yield from _render_odd(close)
    if close.unique:
        sets = "; ".join(" + ".join(names) for names in close.unique)
        yield Text(f"\nUnique in the data: {sets}")
    elif one.rows and one.rows > 1:
        yield Text("\nUnique in the data: no column and no pair of columns")
    yield from _references("References to other tables", one.references)
    yield from _references("Referenced by", one.referenced_by)
    if table.triggers:
        yield Text("\nTriggers", style="bold")
        events = [(trigger.name, trigger.event.lower()) for trigger in table.triggers]
        yield render_grid(("trigger", "runs"), events)
    if close.sample:
        yield from _render_sample(table, close.sample, width)
    yield from render_cautions(one.cautions)
    yield ""


def _key_of(table: Table) -> str:
    if table.kind != "table":
        return "a view"
    return f"key {', '.join(table.key)}" if table.key else "no key"


def _render_odd(close: Close) -> Iterator[RenderableType]:
    """Values that the type of their column does not speak of."""
    odd = [(name, kind, rows) for name, kinds in close.odd.items() for kind, rows in kinds.items()]
    if odd:
        yield Text("\nValues of another kind", style="bold")
        yield render_grid(("column", "holds", "rows"), odd, right=("rows",))


def _make_row(column: Column, profile: ColumnProfile) -> tuple[object, ...]:
    required = "" if column.nullable else " NOT NULL"
    generated = " generated" if column.generated else ""
    return (
        column.name,
        cut(f"{column.type}{required}{generated}"),
        profile.nulls,
        "" if profile.distinct is None else profile.distinct,
        _render_extreme(profile.smallest),
        _render_extreme(profile.largest),
    )


def _render_extreme(value: object) -> Text:
    return Text("") if value is None else render_cell(value, 24)


def _render_sample(table: Table, sample: Sequence[Row], width: int) -> Iterator[RenderableType]:
    shown = render_rows(table.column_names, sample, width)
    yield Text(f"\nThe first {count(min(SAMPLE, len(sample)), 'row')}", style="bold")
    yield shown
    if more := left_out(table.column_names, shown):
        yield Text(f"  (no room for {', '.join(more)})", style="dim")


def _references(title: str, references: Sequence[Reference]) -> Iterator[RenderableType]:
    if references:
        yield Text(f"\n{title}", style="bold")
        yield render_grid(
            ("reference", "on delete", "index"), [_reference(reference) for reference in references]
        )
