"""A preview as text: which rows match, what depends on them, what blocks it."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from msgspec import Struct
from rich.console import RenderableType
from rich.text import Text

from yeldro.core.cautions.no_match import NoMatch
from yeldro.core.model.action import Action
from yeldro.core.model.plural import count, enumerate_words, percent
from yeldro.core.reach.reach import Part, Reach, Stop
from yeldro.core.run.by_time import ByTime
from yeldro.core.run.preview import Preview
from yeldro.core.selection.selection import Selection
from yeldro.report.cautions import render_cautions
from yeldro.report.cells import ACTION_STYLES, render_cell
from yeldro.report.command_line import CommandLine
from yeldro.report.grids import render_grid, render_rows
from yeldro.words.tell import tell, tell_maybe, voice_of
from yeldro.words.voice import Voice

# Signs of the longest bar.
_BAR = 40
_BECOMES = {"null": "NULL", "blank": "blank", "default": "the default"}


class Next(Struct, frozen=True):
    """The command that would follow a preview. Something else may block it still; rows of the
    tables `detached` could be deleted as well."""

    line: str
    is_blocked: bool = False
    detached: tuple[str, ...] = ()


def render_preview(preview: Preview, following: Next | None) -> Iterator[RenderableType]:
    """`following` is the command that would follow, None where none is wanted."""
    reach = preview.reach
    table = reach.selection.table
    share = f" ({percent(reach.matched, reach.table_rows)})" if reach.table_rows else ""
    yield Text(
        f"{table.label} in {preview.title}: {reach.matched:,} of {count(reach.table_rows, 'row')} "
        f"match{share}",
        style="bold",
    )
    yield from render_parameters(reach.selection)
    yield from _list_misses(preview)
    if preview.parts:
        parts = [
            (part.text if not place else f"and {part.text}", part.rows)
            for place, part in enumerate(preview.parts)
        ]
        yield ""
        yield render_grid(("rows that meet", "rows"), parts, right=("rows",))
    if reach.matched:
        yield from _sample(preview)
        yield from render_parts(preview)
    if preview.by_time and reach.matched:
        yield from render_by_time(preview.by_time)
    for one in preview.no_matches:
        yield from _render_no_match(one)
    yield from render_stops(reach.stops, voice_of(preview), clears=reach.cleared is not None)
    for hint in preview.hints:
        yield Text(f"\n{tell(hint, voice_of(preview))}")
    yield from render_cautions(preview.cautions, voice_of(preview))
    if following and reach.touched:
        yield from render_next(following, is_stopped=bool(preview.refusals))


def render_next(following: Next, *, is_stopped: bool) -> Iterator[RenderableType]:
    if following.is_blocked:
        yield Text("\nCommand once nothing blocks it:")
    elif is_stopped:
        yield Text("\nCommand with all that it needs:")
    else:
        yield Text("\nNext, once this is what you expect:")
    yield CommandLine(following.line)
    for label in following.detached:
        yield Text(
            f"  (detach keeps the rows of {label} and clears their reference; {label}=delete would "
            "delete them)",
            style="dim",
        )


def render_parameters(selection: Selection) -> Iterator[RenderableType]:
    """What the parameters of its conditions mean."""
    if values := selection.values:
        yield Text("with " + ", ".join(f"{name} = {value}" for name, value in values.items()))


def _list_misses(preview: Preview) -> Iterator[RenderableType]:
    """What a list of keys has that the table has not, or not so often."""
    if preview.missing:
        keys = ", ".join("/".join(map(str, key)) for key in preview.missing_keys[:10])
        more = f" and {preview.missing - 10:,} more" if preview.missing > 10 else ""
        yield Text(f"{count(preview.missing, 'key')} not in the table: {keys}{more}")
    if preview.repeated:
        verb = "stands" if preview.repeated == 1 else "stand"
        yield Text(f"{count(preview.repeated, 'key')} {verb} in the list several times")
    if unused := preview.selection.unused:
        verb = "is" if len(unused) == 1 else "are"
        yield Text(f"{', '.join(unused)} of the file {verb} not looked at")


def _sample(preview: Preview) -> Iterator[RenderableType]:
    if not preview.sample:
        return
    yield ""
    yield render_rows(preview.columns, preview.sample)
    if rest := preview.reach.matched - len(preview.sample):
        option = "sample" if preview.step else "--sample"
        yield Text(f"  ({count(rest, 'more row')}; {option} all shows every one)", style="dim")


def render_by_time(found: ByTime) -> Iterator[RenderableType]:
    """A bar for each period: what goes is solid, what stays is not."""
    yield Text(f"\nWhat goes and what stays, by {found.column}", style="bold")
    most = max(one.goes + one.stays for one in found.periods)
    rows = []
    for one in found.periods:
        goes, whole = (
            -(-_BAR * part // most) if part else 0 for part in (one.goes, one.goes + one.stays)
        )
        bar = Text.assemble(("█" * goes, "red"), ("░" * (whole - goes), "dim"))
        rows.append((one.name or Text("NULL", style="dim italic"), one.goes, one.stays, bar))
    yield render_grid(("", "goes", "stays", ""), rows, right=("goes", "stays"))


def _render_no_match(one: NoMatch) -> Iterator[RenderableType]:
    """What the column holds instead of what was asked for."""
    yield Text(f"\nNo row meets {one.written}. Of {one.column.name}:", style="bold")
    rows = [
        (what, ", ".join(f"{_quote(value)} ({count(rows, 'row')})" for value, rows in values))
        for what, values in (
            ("differing by case or spaces alone", one.alike),
            ("nearest", one.near),
            ("most common", one.common),
        )
        if values
    ]
    yield render_grid(("", ""), rows)


def _quote(value: object) -> str:
    """Texts in quotes, so that blanks at their ends are seen."""
    shown = render_cell(value).plain
    return f"'{shown}'" if isinstance(value, str) and shown[:1] != "'" else shown


def render_stops(
    stops: Sequence[Stop], voice: Voice = Voice.COMMAND_LINE, *, clears: bool = False
) -> Iterator[RenderableType]:
    if stops:
        what = "Clearing" if clears else "The deletion"
        yield Text(f"\n{what} would be stopped", style="bold red")
        yield render_grid(
            ("table", "rows", "through", "because", "allowed by"),
            [
                (
                    stop.table.label,
                    stop.rows,
                    str(stop.via or ""),
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
    is_alone = len(parts) == 1 and not preview.reach.stops and not parts[0].via and not hidden
    yield from _render_cleared(preview.reach, ends="; nothing else changes." if is_alone else ".")
    if is_alone and not preview.reach.cleared:
        yield Text("\nNo other rows depend on these.")
    if is_alone or not parts:
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
                describe_cause(preview, part),
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


def _render_cleared(reach: Reach, ends: str) -> Iterator[RenderableType]:
    """What the columns hold then that are cleared."""
    for change in reach.changes:
        if change.action is Action.CLEAR:
            become = "becomes" if len(change.columns) == 1 else "become"
            names = enumerate_words(change.columns)
            rows = count(change.rows, "row")
            yield Text(f"\n{names} {become} {_BECOMES[change.to]} in {rows}{ends}")


def describe_cause(preview: Preview, part: Part) -> str:
    own = part.action in (Action.DELETE, Action.CLEAR)
    chosen = part.table is preview.selection.table and own
    first = "surplus rows" if preview.duplicates else "the selection"
    if part.action is Action.FILL:
        return "kept rows"
    return "\n".join([*([first] if chosen else []), *map(str, part.via)])
