"""A preview as text: which rows match, what depends on them, what blocks it."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from rich.console import RenderableType
from rich.text import Text

from yeldro.core.model.action import Action
from yeldro.core.model.plural import count
from yeldro.core.reach.reach import Part, Stop
from yeldro.core.run.preview import Preview
from yeldro.report.cautions import render_cautions
from yeldro.report.cells import ACTION_STYLES
from yeldro.report.grids import left_out, render_grid, render_rows
from yeldro.words.tell import tell, tell_maybe, voice_of
from yeldro.words.voice import Voice


def render_preview(preview: Preview, width: int, next_line: str) -> Iterator[RenderableType]:
    """`next_line` is the command that would follow, "" where none is wanted."""
    reach = preview.reach
    table = reach.selection.table
    share = f" ({100 * reach.matched / reach.table_rows:.1f} %)" if reach.table_rows else ""
    yield Text(
        f"{table.label} in {preview.title}: {reach.matched:,} of {count(reach.table_rows, 'row')} "
        f"match{share}",
        style="bold",
    )
    if preview.missing:
        keys = ", ".join("/".join(map(str, key)) for key in preview.missing_keys[:10])
        more = f" and {preview.missing - 10:,} more" if preview.missing > 10 else ""
        yield Text(f"{count(preview.missing, 'key')} not in the table: {keys}{more}")
    if preview.parts:
        parts = [
            (part.text if not place else f"and {part.text}", part.rows)
            for place, part in enumerate(preview.parts)
        ]
        yield ""
        yield render_grid(("rows that meet", "rows"), parts, right=("rows",))
    if reach.matched:
        yield from _sample(preview, width)
        yield from render_parts(preview)
    yield from render_stops(reach.stops, voice_of(preview))
    for hint in preview.hints:
        yield Text(f"\n{tell(hint, voice_of(preview))}")
    yield from render_cautions(preview.cautions, voice_of(preview))
    if next_line and reach.matched:
        yield Text(
            "\nNext, once this is what you expect:"
            if not preview.refusals
            else "\nCommand once nothing blocks it:"
        )
        yield Text(f"  {next_line}", style="bold", no_wrap=True, overflow="ignore")


def _sample(preview: Preview, width: int) -> Iterator[RenderableType]:
    if not preview.sample:
        return
    keep = len(preview.selection.table.key) + len(preview.selection.columns)
    shown = render_rows(preview.columns, preview.sample, width, max(1, keep))
    yield ""
    yield shown
    notes = []
    if rest := preview.reach.matched - len(preview.sample):
        notes.append(
            f"{count(rest, 'more row')}; {'sample' if preview.step else '--sample'} all shows "
            "every one"
        )
    if more := left_out(preview.columns, shown):
        notes.append(
            f"no room for {', '.join(more)}; {'show' if preview.step else '--show'} picks columns"
        )
    if notes:
        yield Text(f"  ({'; '.join(notes)})", style="dim")


def render_stops(
    stops: Sequence[Stop], voice: Voice = Voice.COMMAND_LINE
) -> Iterator[RenderableType]:
    if stops:
        yield Text("\nThe deletion would be stopped", style="bold red")
        yield render_grid(
            ("table", "rows", "through", "because", "allowed by"),
            [
                (
                    stop.table.label,
                    stop.rows,
                    str(stop.via),
                    tell(stop.reason, voice),
                    tell_maybe(stop.lift, voice),
                )
                for stop in stops
            ],
            right=("rows",),
        )


def render_parts(preview: Preview) -> Iterator[RenderableType]:
    parts = [part for part in preview.reach.parts if part.rows]
    hidden = any(caution.name == "hidden-reference" for caution in preview.cautions)
    if len(parts) == 1 and not preview.reach.stops and not parts[0].via and not hidden:
        yield Text("\nNo other rows depend on these.")
        return
    yield Text("\nWhat happens, in this order", style="bold")
    yield render_grid(
        ("#", "table", "rows", "action", "through"),
        [
            (
                place,
                part.table.label,
                part.rows,
                Text(part.action, style=ACTION_STYLES[part.action]),
                _through(preview, part),
            )
            for place, part in enumerate(parts, 1)
        ],
        right=("#", "rows"),
    )
    for link in preview.reach.links:
        tables = (
            f"rows of {link.child.label}"
            if link.is_self
            else f"{link.child.label} and {link.parent.label}"
        )
        yield Text(
            f"  ({link} is cleared first, because {tables} reference each other)", style="dim"
        )


def _through(preview: Preview, part: Part) -> str:
    chosen = part.table is preview.selection.table and part.action is Action.DELETE
    first = "surplus rows" if preview.duplicates else "the selection"
    if part.action is Action.FILL:
        return "kept rows"
    return "\n".join([*([first] if chosen else []), *map(str, part.via)])
