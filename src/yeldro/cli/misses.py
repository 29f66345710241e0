"""preview --misses: what a list of keys has that the table has not."""

from __future__ import annotations

from pathlib import Path

from yeldro.cli.screen import Screen
from yeldro.core.database.connection import Database
from yeldro.core.model.plural import count
from yeldro.core.selection.selection import Selection
from yeldro.errors import UsageError
from yeldro.report.spreadsheet import render_line
from yeldro.store.disk import writing_new
from yeldro.usecases.look import listed_misses


def write_misses(database: Database, selection: Selection, name: str) -> None:
    """Write a new CSV file: a word for what is wrong, and the key."""
    if selection.listed is None:
        raise UsageError("--misses goes with --key or --keys-from.")
    listed, lines = selection.listed, 0
    with writing_new(Path(name)) as file, listed_misses(database, listed) as misses:
        file.write(render_line(["what", *listed.columns]) + "\r\n")
        for word, key in misses:
            file.write(render_line([word, *key]) + "\r\n")
            lines += 1
    Screen("text").note(f"Wrote {count(lines, 'key')} to {name}.")
