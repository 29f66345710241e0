"""duplicates --decisions: a file in which a person says of each row whether it stays."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

from yeldro.cli.screen import Screen
from yeldro.core.database.abilities import Row
from yeldro.core.database.connection import Database
from yeldro.core.duplicates.decisions import make_mark
from yeldro.core.duplicates.request import DuplicatesRequest
from yeldro.core.model.plural import count
from yeldro.core.model.schema import Reference, Table
from yeldro.errors import UsageError
from yeldro.report.spreadsheet import render_line
from yeldro.store.decision_file import NO, OURS, YES
from yeldro.store.disk import writing_new
from yeldro.usecases.duplicates import rows_to_decide

# How a formula of a spreadsheet begins.
_FORMULA = ("=", "+", "-", "@", "\t", "\r")


def write_decisions(database: Database, request: DuplicatesRequest, name: str) -> None:
    """Write a new file with a line for each row of each group. Where rules decide, they are the
    proposal; else nothing is filled in."""
    table, lines = request.table, 0
    if not table.key:
        raise UsageError(f"{table.label} has no primary key, so no file could name its rows.")
    rest = [column for column in table.column_names if column not in table.key]
    with writing_new(Path(name)) as file, rows_to_decide(database, request) as rows:
        file.write(render_line([*OURS, *table.key, *rest]) + "\r\n")
        for row, dependents in rows:
            decided = request.grouping.is_decided
            file.write(_write_row(table, row, dependents, decided=decided) + "\r\n")
            lines += 1
    Screen("text").note(
        f"Wrote {count(lines, 'row')} to {name}. Say yes in keep for one row of each group, then: "
        f"yeldro dedupe {table.label} … --decisions {name}"
    )


def _write_row(
    table: Table, row: Row, dependents: Mapping[Reference, int], *, decided: bool
) -> str:
    group, place, *cells = row
    stays = place == 1
    happens = ("stays" if stays else "goes") if decided else None
    keep = (YES if stays else NO) if decided else None
    told = ", ".join(f"{rows} {reference.child.label}" for reference, rows in dependents.items())
    values = dict(zip(table.column_names, cells, strict=True))
    rest = [_as_text(values[name]) for name in table.column_names if name not in table.key]
    key = [values[name] for name in table.key]
    return render_line([group, keep, happens, told or None, make_mark(cells), *key, *rest])


def _as_text(value: object) -> object:
    """A text that a spreadsheet would take for a formula gets a sign before it: it is only there to
    be read."""
    return f"'{value}" if isinstance(value, str) and value[:1] in _FORMULA else value
