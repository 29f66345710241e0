"""Groups of duplicates side by side, and what removing the surplus rows would do, as text and as
JSON."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence

from rich.console import RenderableType
from rich.text import Text

from yeldro.core.database.abilities import Row
from yeldro.core.duplicates.groups import Duplicates, Group
from yeldro.core.duplicates.proposals import Proposal
from yeldro.core.model.action import Action
from yeldro.core.model.plural import count, enumerate_words
from yeldro.core.model.schema import Reference, Table
from yeldro.core.run.preview import Preview, find_group_cautions
from yeldro.report.cautions import render_cautions
from yeldro.report.cells import render_cell
from yeldro.report.documents import make_cautions, make_collisions, make_stops
from yeldro.report.grids import render_grid
from yeldro.report.json_text import Document
from yeldro.report.preview import Next, render_next, render_parameters, render_parts, render_stops
from yeldro.store.run_facts import describe_reach
from yeldro.words.tell import tell, voice_of

# Signs: the most groups have a bar of this length, and others one in proportion.
_WIDEST_BAR = 30


def render_merging(preview: Preview, following: Next | None = None) -> Iterator[RenderableType]:
    """The duplicates, and everything that removing the surplus rows would touch."""
    found = preview.duplicates
    assert found
    yield from render_duplicates(found, _find_filled(preview), in_file=bool(preview.step))
    if not found.groups:
        return
    yield from render_parts(preview)
    for collision in preview.reach.collisions:
        columns = ", ".join(collision.columns)
        end = (
            "they are dropped, and what depends on them moves on"
            if collision.dropped
            else "they block it"
        )
        yield Text(
            f"\n{count(collision.rows, 'row')} of {collision.table.label} would have the same "
            f"{columns} as another row once moved: {end}",
            style="bold",
        )
        pairs = [
            (_key(collision.table, row), _key(collision.table, other))
            for row, other in collision.pairs
        ]
        yield render_grid(("row", "the same as"), pairs)
        if collision.rows > len(pairs):
            yield Text(f"  ({count(collision.rows - len(pairs), 'more row')})", style="dim")
    for hint in preview.hints:
        yield Text(f"\n{tell(hint, voice_of(preview))}")
    yield from render_stops(preview.reach.stops, voice_of(preview))
    yield from render_cautions(preview.cautions, voice_of(preview))
    if following:
        yield from render_next(following, is_stopped=bool(preview.refusals))


def _key(table: Table, row: Row) -> str:
    return ", ".join(f"{name} {value}" for name, value in zip(table.telling, row, strict=True))


def _find_filled(preview: Preview) -> tuple[str, ...]:
    changes = [change for change in preview.reach.changes if change.action is Action.FILL]
    return tuple(name for change in changes for name in change.columns)


def render_duplicates(
    found: Duplicates, filled: Sequence[str] = (), *, in_file: bool = False
) -> Iterator[RenderableType]:
    """`filled` are the columns in which kept rows get values of surplus ones; `in_file`: a file
    asked for them."""
    label, groups = found.request.table.label, count(found.groups, "group")
    yield Text(
        f"{label} in {found.title}: {groups} with the same {_name_same(found)}", style="bold"
    )
    yield from render_parameters(found.request.grouping.selection)
    if found.left_alone:
        stay = "stays" if found.left_alone == 1 else "stay"
        groups = count(found.left_alone, "group")
        yield Text(f"{groups} {stay} as before: nothing was decided there")
    yield from _left_out(found, in_file=in_file)
    if not found.groups:
        return
    are = "is" if found.surplus == 1 else "are"
    yield Text(
        f"  {found.rows:,} rows: {found.groups:,} would stay, {found.surplus:,} {are} surplus"
    )
    most = max(groups for _, groups in found.sizes)
    sizes = [
        (f"{size:,} rows", groups, "━" * max(1, round(_WIDEST_BAR * groups / most)))
        for size, groups in found.sizes
    ]
    yield ""
    yield render_grid(("size", "groups", ""), sizes, right=("size", "groups"))
    yield from _decisions(found, "keep" if in_file else "--keep")
    for number, group in enumerate(found.listing, 1):
        yield from _group(found, number, group, filled)
    if len(found.listing) < found.groups:
        more = count(found.groups - len(found.listing), "more group")
        yield Text(f"\n{more}: {'groups = N' if in_file else '--groups N or --all'} shows them.")


def _name_same(found: Duplicates) -> str:
    """What the rows of a group have in common."""
    grouping = found.request.grouping
    same = ", ".join(part.text for part in grouping.same)
    ignored = sorted({what.plural for part in grouping.loose for what in part.ignored})
    loosely = f", ignoring {enumerate_words(ignored)}" if ignored else ""
    return f"{'values in every column' if grouping.is_whole else same}{loosely}"


def _left_out(found: Duplicates, *, in_file: bool) -> Iterator[RenderableType]:
    """How many rows are the same as none, because of what they lack."""
    what = [(found.nulls, "NULL"), (found.blanks, "a blank text")]
    parts = [f"{count(rows, 'row')} with {name}" for rows, name in what if rows]
    if parts:
        option = 'nulls = "same"' if in_file else "--nulls same"
        yield Text(
            f"  ({' and '.join(parts)} there equal nothing, and are left out; {option} counts "
            "them)",
            style="dim",
        )


def _decisions(found: Duplicates, title: str) -> Iterator[RenderableType]:
    """In how many groups each rule decides. One that decides nothing is said so."""
    chosen = found.request.grouping.is_decided
    if not found.decisions:
        return
    yield ""
    rows: list[tuple[object, object, str]] = [
        (rule.text, groups, "" if groups else "nothing: its values are the same in every group")
        for rule, groups in found.decisions
    ]
    if chosen:
        left = found.groups - sum(groups for _, groups in found.decisions)
        rows.append(("the lowest key" if found.request.table.key else "the first row", left, ""))
    titles = (title, "groups this rule decides" if chosen else "groups it would decide", "")
    used = 3 if any(row[2] for row in rows) else 2
    yield render_grid(titles[:used], [row[:used] for row in rows], right=titles[1:2])


def render_proposals(table: Table, proposed: Sequence[Proposal]) -> Iterator[RenderableType]:
    if not proposed:
        yield Text(f"No columns of {table.label} are almost unique.", style="bold")
        return
    yield Text(f"Columns of {table.label} that are almost unique", style="bold")
    yield render_grid(
        ("--same", "rows", "surplus"),
        [(",".join(one.columns), one.rows, one.surplus) for one in proposed],
        right=("rows", "surplus"),
    )


def make_proposals(table: Table, proposed: Sequence[Proposal]) -> Document:
    listed = [
        {"same": list(one.columns), "rows": one.rows, "surplus": one.surplus} for one in proposed
    ]
    return {"kind": "duplicates", "table": table.label, "proposals": listed}


def _group(
    found: Duplicates, number: int, group: Group, filled: Sequence[str]
) -> Iterator[RenderableType]:
    """The row that stays first; `≠` marks cells that are not its own, `→` what it will be filled
    with."""
    grouping, table = found.request.grouping, found.request.table
    yield Text.assemble(f"\nGroup {number:,}", (_name_reason(found, group), "italic"))
    wanted = {*table.key, *group.differs, *(part.column for part in grouping.same)}
    places = [place for place, name in enumerate(table.column_names) if name in wanted]
    with_dependents = any(group.dependents)
    rows = []
    shown = group.rows[: found.request.shown_rows]
    for place, row in enumerate(shown):
        cells = [_marked(row[column], group.rows[0][column]) for column in places]
        if place == 0:
            cells = [
                _filled(cell, row[column], group, column)
                if table.column_names[column] in filled
                else cell
                for cell, column in zip(cells, places, strict=True)
            ]
        dependents = [_list_dependents(group.dependents[place])] if with_dependents else []
        verdict = _render_verdict(group, place, is_decided=grouping.is_decided)
        rows.append([verdict, *cells, *dependents])
    first = "" if grouping.is_decided else "kept by"
    titles = [table.column_names[place] for place in places]
    yield render_grid([first, *titles, *["dependents"] * with_dependents], rows)
    if more := len(group.rows) - len(shown):
        yield Text(f"  ({count(more, 'more row')}; --rows N shows more)", style="dim")


def _name_reason(found: Duplicates, group: Group) -> str:
    """Why the first row stays, "" where nobody decided."""
    if not found.request.grouping.is_decided:
        return ""
    if group.decided:
        return f", kept by {group.decided}"
    return ", kept by the lowest key" if found.request.table.key else ", kept as the first"


def _render_verdict(group: Group, place: int, *, is_decided: bool) -> Text:
    """Whether a row stays, or which rules would keep it."""
    if not is_decided:
        return Text(", ".join(_choosers(group, place + 1)), style="italic")
    return Text("stays", style="green") if place == 0 else Text("goes", style="red")


def _choosers(group: Group, place: int) -> list[str]:
    return [rule for rule, chosen in group.choices.items() if chosen == place]


def _filled(cell: Text, value: object, group: Group, column: int) -> Text:
    """What the first surplus row that has something will fill in."""
    if not _is_blank(value):
        return cell
    values = [row[column] for row in group.rows if not _is_blank(row[column])]
    return Text.assemble(cell, (" → ", "green"), render_cell(values[0])) if values else cell


def _is_blank(value: object) -> bool:
    return value is None or (isinstance(value, str) and not value.strip(" "))


def _marked(value: object, first: object) -> Text:
    cell = render_cell(value)
    return (
        cell
        if (type(value), value) == (type(first), first)
        else Text.assemble(("≠ ", "bold"), cell)
    )


def _list_dependents(dependents: Mapping[Reference, int]) -> str:
    """How many rows of each table; where several references lead there, by their columns."""
    labels = [reference.child.label for reference in dependents]
    return "\n".join(
        f"{found:,} {label}"
        + (f" ({', '.join(reference.columns)})" if labels.count(label) > 1 else "")
        for (reference, found), label in zip(dependents.items(), labels, strict=True)
    )


def make_duplicates(found: Duplicates, preview: Preview | None) -> Document:
    names = found.request.table.column_names
    same = [part.text for part in found.request.grouping.same]
    document: Document = {
        "kind": "duplicates",
        "database": found.database,
        "table": found.request.table.label,
        "groups": found.groups,
        "rows": found.rows,
        "kept": found.groups,
        "surplus": found.surplus,
        "sizes": [{"size": size, "groups": groups} for size, groups in found.sizes],
        "decisions": [{"rule": rule.text, "groups": groups} for rule, groups in found.decisions],
        "listing": [
            {
                "values": dict(zip(same, group.values, strict=True)),
                "keep": dict(zip(names, group.rows[0], strict=True)),
                "decided_by": group.decided or None,
                "surplus": [dict(zip(names, row, strict=True)) for row in group.rows[1:]],
                "differs": list(group.differs),
                "dependents": [
                    {str(reference): rows for reference, rows in one.items()}
                    for one in group.dependents
                ],
            }
            for group in found.listing
        ],
        "collisions": make_collisions(preview) if preview else [],
        "left_out": {"nulls": found.nulls, "blanks": found.blanks},
        "cautions": make_cautions(list(find_group_cautions(found))),
    }
    if preview:
        document |= {
            "reach": describe_reach(preview.reach),
            "stops": make_stops(preview),
            "cautions": make_cautions(preview.cautions, voice_of(preview)),
            "refusals": [tell(one, voice_of(preview)) for one in preview.refusals],
        }
    return document
