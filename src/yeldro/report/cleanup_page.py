"""The report on a cleanup before it runs: what it would do as the data is now, for who signs."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from yeldro.core.cleanup.cleanup import Cleanup
from yeldro.core.model.plural import count, percent
from yeldro.core.run.preview import Preview
from yeldro.core.run.seal import Seal
from yeldro.core.survey.picture import Picture
from yeldro.report.cells import render_cell
from yeldro.report.drawing import draw_by_time, draw_sizes, draw_svg
from yeldro.report.explanation import render_explanation
from yeldro.report.page import Grid, Page, Section
from yeldro.report.preview import describe_cause
from yeldro.words.tell import tell, tell_maybe, voice_of


def make_cleanup_page(
    name: str, cleanup: Cleanup, found: Sequence[tuple[Preview, Picture]], when: str, line: str
) -> Page:
    """`found` is what each step would find, with its map; `when` it was looked for.
    `line` is the command that would run it."""
    first = found[0][0]
    seals = {step.name: step.seal for step in cleanup.steps}
    return Page(
        cleanup.title or f"The cleanup {name}",
        f"{name} on {first.title}, as the data was at {when}",
        [
            *_explain(cleanup),
            *(
                section
                for preview, picture in found
                for section in _show(preview, picture, seals.get(preview.step))
            ),
            Section("How it is run", code=line),
        ],
    )


def _explain(cleanup: Cleanup) -> Iterator[Section]:
    """Its sentences, under a heading each."""
    title, points = "", list[str]()
    for line in [one.plain for one in render_explanation(cleanup)][1:]:
        if line.startswith("\n"):
            if points:
                yield Section(title or "In words", points=points)
            title, points = line.strip(), []
        else:
            points.append(" ".join(line.split()).removeprefix("- "))
    if points:
        yield Section(title or "In words", points=points)


def _show(preview: Preview, picture: Picture, seal: Seal | None) -> Iterator[Section]:
    reach, voice = preview.reach, voice_of(preview)
    table = reach.selection.table.label
    share = f" ({percent(reach.matched, reach.table_rows)})" if reach.table_rows else ""
    what = "surplus" if preview.duplicates else "matched"
    whole = f"{count(reach.table_rows, 'row')} of {table}{share}"
    facts = [(what, f"{reach.matched:,} of {whole}")]
    if preview.duplicates:
        facts.insert(0, ("groups", f"{preview.duplicates.groups:,}"))
    facts += [(f":{name}", str(value)) for name, value in reach.selection.values.items()]
    if seal:
        facts.append(("seal", f"{count(seal.matched, 'matched row')}, {seal.fingerprint}"))
    conditions = [condition.text for condition in reach.selection.conditions]
    yield Section(
        f"{preview.step}: what it would find",
        [f"It would be stopped: {tell(one, voice)}" for one in preview.refusals],
        facts,
        code="\nAND ".join(f"({one})" if len(conditions) > 1 else one for one in conditions),
        grids=list(_list_grids(preview)),
        pictures=list(_draw(preview, picture)),
    )
    told = [f"{caution.name}: {tell(caution.found, voice)}" for caution in preview.cautions]
    if told:
        yield Section(f"{preview.step}: cautions", points=told)


def _draw(preview: Preview, picture: Picture) -> Iterator[tuple[str, str]]:
    if preview.duplicates and preview.duplicates.sizes:
        yield "How many groups have how many rows.", draw_sizes(preview.duplicates.sizes)
    if preview.by_time and preview.reach.matched:
        told = f"What goes and what stays, by {preview.by_time.column}."
        yield told, draw_by_time(preview.by_time)
    if preview.reach.matched and len(picture.boxes) > 1:
        yield "What happens to the rows of each table.", draw_svg(picture)


def _list_grids(preview: Preview) -> Iterator[Grid]:
    reach, voice = preview.reach, voice_of(preview)
    if preview.sample:
        rows = [[render_cell(cell).plain for cell in row] for row in preview.sample]
        caption = f"{len(rows):,} of {count(reach.matched, 'matched row')}"
        yield Grid(caption, preview.columns, rows)
    parts = [part for part in reach.parts if part.rows]
    lines = [
        [f"{place}", part.table.label, f"{part.rows:,}", part.action, describe_cause(preview, part)]
        for place, part in enumerate(parts, 1)
    ]
    if lines:
        titles = ("#", "table", "rows", "action", "through")
        yield Grid("What happens, in this order", titles, lines, ("#", "rows"))
    if reach.stops:
        stops = [
            [
                stop.table.label,
                f"{stop.rows:,}",
                str(stop.via or ""),
                tell(stop.reason, voice),
                tell_maybe(stop.lift, voice),
            ]
            for stop in reach.stops
        ]
        titles = ("table", "rows", "through", "because", "allowed by")
        yield Grid("What blocks it", titles, stops, ("rows",))
