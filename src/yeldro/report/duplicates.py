"""Groups of duplicates side by side, as text and as JSON."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence

from rich.console import RenderableType
from rich.text import Text

from yeldro.core.duplicates import Duplicates, Group, Proposal
from yeldro.core.schema import Reference, Table
from yeldro.report.cells import render_cell
from yeldro.report.documents import Document
from yeldro.report.grids import count, render_grid

_WIDEST_BAR = 30


def render_duplicates(found: Duplicates) -> Iterator[RenderableType]:
    request = found.request
    label, same = request.table.label, ", ".join(request.same)
    same = "values in every column" if request.same == request.table.column_names else same
    yield Text(f"{label} in {found.database}: {count(found.groups, 'group')} with the same {same}", style="bold")
    if not found.groups:
        return
    yield Text(f"  {found.rows:,} rows: {found.groups:,} would stay, {found.surplus:,} are surplus")
    most = max(groups for _, groups in found.sizes)
    sizes = [
        (f"{size:,} rows", groups, "━" * max(1, round(_WIDEST_BAR * groups / most))) for size, groups in found.sizes
    ]
    yield ""
    yield render_grid(("size", "groups", ""), sizes, right=("size", "groups"))
    for number, group in enumerate(found.listing, 1):
        yield from _group(found, number, group)
    if len(found.listing) < found.groups:
        yield Text(f"\n{count(found.groups - len(found.listing), 'more group')}: --groups N or --all shows them.")


def render_proposals(table: Table, proposed: Sequence[Proposal]) -> Iterator[RenderableType]:
    if not proposed:
        yield Text(f"No columns of {table.label} are unique but for a few rows.", style="bold")
        return
    yield Text(f"Columns of {table.label} that are unique but for a few rows", style="bold")
    yield render_grid(
        ("--same", "rows", "surplus"),
        [(",".join(one.columns), one.rows, one.surplus) for one in proposed],
        right=("rows", "surplus"),
    )


def make_proposals(table: Table, proposed: Sequence[Proposal]) -> Document:
    listed = [{"same": list(one.columns), "rows": one.rows, "surplus": one.surplus} for one in proposed]
    return {"kind": "duplicates", "table": table.label, "proposals": listed}


def _group(found: Duplicates, number: int, group: Group) -> Iterator[RenderableType]:
    """The row that stays first; `≠` marks cells that are not those of the first row."""
    request = found.request
    names = request.table.column_names
    why = f"kept by {group.decided}" if group.decided else "kept by the lowest key"
    yield Text.assemble(f"\nGroup {number:,}, ", (why, "italic"))
    shown = [name for name in names if name in request.table.key or name in group.differs or name in request.same]
    places = [names.index(name) for name in shown]
    rows = []
    for place, row in enumerate(group.rows):
        verdict = Text("stays", style="green") if place == 0 else Text("goes", style="red")
        cells = [_marked(row[column], group.rows[0][column]) for column in places]
        rows.append([verdict, *cells, *([_hanging(group.dependents[place])] if any(group.dependents) else [])])
    yield render_grid(("", *shown, *(["hangs on it"] if any(group.dependents) else [])), rows)


def _marked(value: object, first: object) -> Text:
    cell = render_cell(value)
    return cell if (type(value), value) == (type(first), first) else Text.assemble(("≠ ", "yellow"), cell)


def _hanging(dependents: Mapping[Reference, int]) -> str:
    return ", ".join(f"{found:,} {reference.child.label}" for reference, found in dependents.items())


def make_duplicates(found: Duplicates) -> Document:
    names = found.request.table.column_names
    same = found.request.same
    return {
        "kind": "duplicates",
        "table": found.request.table.label,
        "groups": found.groups,
        "rows": found.rows,
        "kept": found.groups,
        "surplus": found.surplus,
        "sizes": [{"size": size, "groups": groups} for size, groups in found.sizes],
        "listing": [
            {
                "values": {name: group.rows[0][names.index(name)] for name in same},
                "keep": dict(zip(names, group.rows[0], strict=True)),
                "decided_by": group.decided or None,
                "surplus": [dict(zip(names, row, strict=True)) for row in group.rows[1:]],
                "differs": list(group.differs),
                "dependents": [{str(reference): rows for reference, rows in one.items()} for one in group.dependents],
            }
            for group in found.listing
        ],
        "collisions": [],
    }
