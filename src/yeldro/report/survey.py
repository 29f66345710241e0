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
from yeldro.report.cautions import render_cautions, render_kinds
from yeldro.report.cells import cut, render_cell
from yeldro.report.grids import count_lines, render_grid, render_rows

# Titles, blank lines, the last lines of an overview, and the command before it.
_OTHER_LINES = 12
# So many of each are listed on the smallest screen.
_FEWEST = 5


def render_survey(
    database: str, tables: Sequence[TableSurvey], height: int | None = None
) -> Iterator[RenderableType]:
    """The overview, or a close look at each table that was named. What would not fit a screen of
    `height` lines is left out and counted; None for one without an end."""
    if tables and tables[0].close is not None:
        for one in tables:
            yield from _closely(one)
    else:
        yield from _render_overview(database, tables, height)


def _render_overview(
    database: str, tables: Sequence[TableSurvey], height: int | None
) -> Iterator[RenderableType]:
    views = sum(table.table.kind == "view" for table in tables)
    more = f" and {count(views, 'view')}" if views else ""
    yield Text(f"{database}: {count(len(tables) - views, 'table')}{more}", style="bold")
    yield ""
    titles = ("table", "rows", "key", "refs out", "refs in", "triggers")
    references = [reference for table in tables for reference in table.references]
    cautions = [caution for table in tables for caution in table.cautions]
    below = [] if height is None else list(render_kinds(cautions))
    left = None if height is None else height - _OTHER_LINES - count_lines(below)
    room = _find_room(len(tables), len(references), left)
    shown = map(_make_line, tables[: room[0]])
    yield render_grid(titles, shown, right=("rows", "refs out", "refs in"))
    yield from _render_rest(len(tables), room[0], "table")
    if references:
        title = "References, and what happens when the row they point at is deleted"
        yield from _references(title, references[: room[1]])
        yield from _render_rest(len(references), room[1], "reference")
    yield from below if below else render_cautions(cautions)
    yield Text(
        "\nNext: yeldro survey TABLE looks closely at one; yeldro survey --findings tells what "
        "could be cleaned up.",
        style="dim",
    )


def _find_room(tables: int, references: int, lines: int | None) -> tuple[int, int]:
    """How many tables and references are listed in so many lines."""
    if lines is None or tables + references <= lines:
        return tables, references
    # Two thirds for the tables, which matter more, and what they leave for the references.
    listed = min(tables, max(_FEWEST, lines * 2 // 3))
    return listed, min(references, max(_FEWEST, lines - listed - 2))


def _render_rest(total: int, shown: int, noun: str) -> Iterator[RenderableType]:
    if total > shown:
        rest = count(total - shown, f"more {noun}")
        yield Text(f"  (and {rest}: --all shows them, a pattern such as 'a*' some)", style="dim")


def _make_line(one: TableSurvey) -> tuple[object, ...]:
    is_view = one.table.kind == "view"
    rows = "not allowed" if one.rows is None else one.rows
    return (
        one.table.label,
        "view" if is_view else rows,
        "" if is_view else _key(one),
        len(one.references),
        len(one.referenced_by),
        ", ".join(trigger.name for trigger in one.table.triggers),
    )


def _key(one: TableSurvey) -> Text:
    return Text(", ".join(one.table.key)) if one.table.key else Text("none", style="bold")


def _reference(reference: Reference) -> tuple[Any, ...]:
    index = Text("yes") if reference.is_indexed else Text("none", style="bold")
    return (
        str(reference),
        reference.on_delete.value,
        Text(reference.broken, style="red") if reference.broken else index,
    )


def _closely(one: TableSurvey) -> Iterator[RenderableType]:
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
        yield from _render_sample(table, close.sample)
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
    generated = " generated" if column.generated else ""
    # Where there may be none, and there are none, that tells more than how many there are.
    never = not column.nullable and not profile.nulls
    return (
        column.name,
        cut(f"{column.type}{generated}"),
        "NOT NULL" if never else profile.nulls,
        "" if profile.distinct is None else profile.distinct,
        _render_extreme(profile.smallest),
        _render_extreme(profile.largest),
    )


def _render_extreme(value: object) -> Text:
    return Text("") if value is None else render_cell(value, 24)


def _render_sample(table: Table, sample: Sequence[Row]) -> Iterator[RenderableType]:
    yield Text(f"\nThe first {count(min(SAMPLE, len(sample)), 'row')}", style="bold")
    yield render_rows(table.column_names, sample)


def _references(title: str, references: Sequence[Reference]) -> Iterator[RenderableType]:
    if references:
        yield Text(f"\n{title}", style="bold")
        yield render_grid(
            ("reference", "on delete", "index"), [_reference(reference) for reference in references]
        )
