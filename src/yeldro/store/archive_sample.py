"""Some rows of an archive, as they are shown to whoever opens it."""

from __future__ import annotations

import sqlite3
from contextlib import closing
from pathlib import Path
from typing import Any

from msgspec import Struct

from yeldro.store.archive_catalogue import TABLES, check_tables, quoted, translated

# Steps of SQLite's machine: a file of somebody else may hold views that have no end.
_MOST_STEPS = 5_000_000


class Sample(Struct, frozen=True):
    """The first archived rows of a table, of so many."""

    table: str
    columns: tuple[str, ...]
    rows: tuple[tuple[Any, ...], ...]
    total: int


def read_sample(path: Path, table: str, limit: int) -> Sample | None:
    """Of the deleted, or changed, rows of a table by its name; None where there are none.
    ArchiveFailed for what is damaged."""
    with (
        translated(path),
        closing(sqlite3.connect(f"{path.absolute().as_uri()}?mode=ro", uri=True)) as file,
    ):
        file.text_factory = lambda text: text.decode(errors="replace")
        check_tables(file, *TABLES)
        found = file.execute(
            "SELECT shown_as, sum(rows) FROM yeldro_portions WHERE source_table = ? OR "
            "source_schema || '.' || source_table = ? GROUP BY shown_as",
            (table, table),
        ).fetchone()
        if not found:
            return None
        file.set_progress_handler(lambda: 1, _MOST_STEPS)
        rows = file.execute(f"SELECT * FROM {quoted(found[0])} LIMIT {int(limit)}")
        columns = tuple(str(one[0]) for one in rows.description)
        return Sample(table, columns, tuple(rows.fetchall()), int(found[1]))
