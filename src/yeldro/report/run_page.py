"""The report on a run, from its record alone: it says the same wherever it is read."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Sequence

from yeldro.core.model.action import Action
from yeldro.core.model.plural import count
from yeldro.core.model.schema import Table, TableName
from yeldro.core.survey.picture import Arrow, Box, Picture
from yeldro.report.cells import render_cell
from yeldro.report.drawing import draw_lags, draw_rates, draw_svg
from yeldro.report.history import list_pairs, list_reach, list_tally
from yeldro.report.page import Grid, Page, Section
from yeldro.store.archive_sample import Sample
from yeldro.store.batch_file import BATCHES, BatchFacts, BatchFile
from yeldro.store.run_facts import PartFacts
from yeldro.store.run_record import RunRecord

# So many lines of run.sql, and so many batches, are shown; the record has all.
_LINES, _BATCHES = 200, 40
# Told in sections of their own.
_APART = ("asked", "archive", "SHA-256", "left out", "restored", "copied to")


def make_run_page(record: RunRecord, sample: Sample | None, statements: Sequence[str]) -> Page:
    """`statements` are the lines of run.sql."""
    facts = record.facts
    rows = count(sum(part["rows"] for part in facts["reach"]), "row")
    sections = [
        _ask(record),
        _do(record),
        *_prove(record),
        *_batch(record),
        *_show(sample),
        *([Section("Cautions", points=facts["cautions"])] if facts["cautions"] else []),
        _keep(record),
    ]
    outcome = record.outcome
    subtitle = f"{facts['kind']} in {facts['database']}: {outcome}, {rows} in its reach"
    return Page(f"Run {record.name}", subtitle, sections, list(_list_statements(statements)))


def _ask(record: RunRecord) -> Section:
    told = [(name, text) for name, text in list_pairs(record) if text and name not in _APART]
    return Section("What was asked", facts=told, code=record.facts["asked"])


def _do(record: RunRecord) -> Section:
    titles, rows = list_reach(record.facts)
    grid = Grid("Rows that it touched, in this order", titles, _write(rows), ("rows",))
    picture = _make_picture(record.facts["reach"])
    caption = "Its tables; an arrow leads from rows to those that they reference."
    pictures = [(caption, draw_svg(picture))] if len(picture.boxes) > 1 else []
    return Section("What it did", grids=[grid], pictures=pictures)


def _prove(record: RunRecord) -> Iterator[Section]:
    if record.facts["tally"]:
        titles, rows = list_tally(record.facts)
        grid = Grid("Rows of each table before and after", titles, _write(rows), titles[1:-2])
        told = "Nothing is committed unless each line balances: done is expected, and before less "
        yield Section("Tally", [f"{told}deleted is after."], grids=[grid])


def _batch(record: RunRecord) -> Iterator[Section]:
    if "batches" not in record.facts:
        return
    done = BatchFile(record.folder / BATCHES).committed()
    shown = done[:_BATCHES]
    rows = [_write_batch(one) for one in shown]
    titles = ("batch", "rows", "seconds", "first key", "last key")
    grid = Grid(f"{len(shown):,} of {count(len(done), 'batch')}", titles, rows, titles[:3])
    pictures = [("Rows a second, batch by batch.", draw_rates(done))] if len(done) > 1 else []
    if len(done) > 1 and any("behind" in one for one in done):
        told = "How many seconds the furthest replica was behind when each batch began."
        pictures.append((told, draw_lags(done)))
    yield Section("Batches", grids=[grid], pictures=pictures)


def _write_batch(one: BatchFacts) -> list[str]:
    rows, seconds = one.get("rows", 0), one.get("seconds", 0.0)
    ends = (one.get("first_key", []), one.get("last_key", []))
    return [f"{one['batch']:,}", f"{rows:,}", f"{seconds:g}", *map("/".join, ends)]


def _show(sample: Sample | None) -> Iterator[Section]:
    if sample:
        rows = [[render_cell(cell).plain for cell in row] for row in sample.rows]
        caption = f"{len(rows):,} of {count(sample.total, 'row')} of {sample.table}, as kept"
        yield Section("Some of the rows", grids=[Grid(caption, sample.columns, rows)])


def _keep(record: RunRecord) -> Section:
    facts = record.facts
    told = [(name, text) for name, text in list_pairs(record) if text and name in _APART[1:]]
    mark = facts.get("fingerprints")
    files = mark["files"].items() if mark else ()
    told += [(f"SHA-256 of {name}", digest) for name, digest in files]
    names = {"SHA-256": "SHA-256 of the record"}
    told = [(names.get(name, name), text) for name, text in told]
    back = f"yeldro restore {record.name}" if record.size and record.outcome == "committed" else ""
    return Section("The copy of the rows, and the way back", facts=told, code=back)


def _list_statements(lines: Sequence[str]) -> Iterator[Section]:
    if lines:
        shown = lines[:_LINES]
        told = f"{len(shown):,} of {count(len(lines), 'line')} of run.sql, as they were sent."
        yield Section("Statements", [told], code="\n".join(shown))


def _make_picture(parts: Sequence[PartFacts]) -> Picture:
    """The tables of a reach, children first, as its record tells of them."""
    counts: dict[str, dict[Action, int]] = {}
    for part in parts:
        here, action = counts.setdefault(part["table"], {}), Action(part["action"])
        here[action] = here.get(action, 0) + part["rows"]
    boxes = [Box((_name(label),), counts=found) for label, found in counts.items()]
    place = {label: number for number, label in enumerate(counts)}
    arrows: dict[tuple[int, int, str], Arrow] = {}
    for text in (one for part in parts for one in part["via"]):
        child, _, parent = text.partition(" -> ")
        ends = (_find_table(child, place), _find_table(parent, place))
        if ends[0] and ends[1]:
            label = child.removeprefix(f"{ends[0]}.")
            key = (place[ends[0]], place[ends[1]], label)
            arrows[key] = Arrow(*key[:2], label=label)
    return Picture(tuple(boxes), tuple(arrows.values()), len(boxes))


def _find_table(end: str, labels: Collection[str]) -> str:
    """The table in `table.column`, whose name may hold a dot."""
    return max((one for one in labels if end.startswith(f"{one}.")), key=len, default="")


def _name(label: str) -> Table:
    return Table(TableName("", label), label, "table", (), (), ())


def _write(rows: Sequence[Sequence[object]]) -> list[list[str]]:
    return [[f"{cell:,}" if isinstance(cell, int) else str(cell) for cell in row] for row in rows]
