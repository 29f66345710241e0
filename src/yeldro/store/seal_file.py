"""The rows under the seal of a cleanup, kept beside its file, so that what came and went since can
be told.

The seal itself, which decides, stands in the cleanup; this file is an SQLite database that anybody
can open.
"""

from __future__ import annotations

import sqlite3
from collections.abc import Iterable, Iterator
from contextlib import ExitStack, closing, contextmanager
from itertools import islice
from pathlib import Path

from yeldro.core.run.seal import Change, Difference, Sealed
from yeldro.errors import ArchiveFailed
from yeldro.store.archive_catalogue import check_tables
from yeldro.store.disk import replacing

_ROWS = (
    "rows (step TEXT NOT NULL, action TEXT NOT NULL, image TEXT NOT NULL, shown_key TEXT NOT NULL)"
)
# Keys that came or went are shown to a person, who looks at a few.
_SHOWN = 10
# Rows that are written to the file at a time.
_BATCH = 1000


def find_seal_file(cleanup: Path) -> Path:
    return cleanup.with_suffix(".seal")


class SealWriter:
    def __init__(self, path: Path, file: sqlite3.Connection) -> None:
        self._path = path
        self._file = file

    def add(self, step: str, rows: Iterable[Sealed]) -> None:
        with _translated(self._path):
            _insert(self._file, "rows", step, rows)


@contextmanager
def writing_seals(cleanup: Path) -> Iterator[SealWriter]:
    """A new file, which takes the place of an old one when it is whole."""
    path = find_seal_file(cleanup)
    with ExitStack() as open_files:
        with _translated(path):
            new = open_files.enter_context(replacing(path))
            file = open_files.enter_context(closing(sqlite3.connect(new, isolation_level=None)))
            file.execute("BEGIN")
            file.execute(f"CREATE TABLE {_ROWS}")
        yield SealWriter(path, file)
        with _translated(path):
            file.execute("COMMIT")


def find_difference(cleanup: Path, step: str, rows: Iterable[Sealed]) -> Difference:
    """Compare the rows of a step with those that were sealed."""
    path = find_seal_file(cleanup)
    if not path.exists():
        return Difference(is_known=False)
    with _translated(path), closing(sqlite3.connect("", isolation_level=None)) as file:
        with closing(sqlite3.connect(path)) as sealed:
            check_tables(sealed, "rows")
        file.execute("ATTACH ? AS sealed", (f"{path.resolve()}",))
        file.execute(f"CREATE TABLE {_ROWS}")
        file.execute("BEGIN")
        _insert(file, "main.rows", step, rows)
        came = tuple(_find_changes(file, step, "main", "sealed"))
        return Difference(came, tuple(_find_changes(file, step, "sealed", "main")))


def _find_changes(file: sqlite3.Connection, step: str, one: str, other: str) -> Iterator[Change]:
    """What one has and the other has not, by action. Rows that are alike count as often as they are
    there.

    The rows stand in the order in which they would be changed, matched rows last.
    """
    counted = (
        "(SELECT action, image, shown_key, count(*) AS n, max(rowid) AS place FROM {}.rows WHERE "
        "step = :step"
    )
    counted += " GROUP BY action, image)"
    more = (
        f"FROM {counted.format(one)} AS a LEFT JOIN {counted.format(other)} AS b USING (action, "
        "image)"
    )
    more += " WHERE a.n > coalesce(b.n, 0)"
    rows = "sum(a.n - coalesce(b.n, 0))"
    query = f"SELECT action, {rows} {more} GROUP BY action ORDER BY max(a.place) DESC"
    for action, count in file.execute(query, {"step": step}).fetchall():
        keys = file.execute(
            f"SELECT a.shown_key {more} AND action = :action ORDER BY a.place LIMIT {_SHOWN}",
            {"step": step, "action": action},
        )
        yield Change(action, count, tuple(key for (key,) in keys))


def _insert(file: sqlite3.Connection, into: str, step: str, rows: Iterable[Sealed]) -> None:
    waiting: Iterator[tuple[str, str, str, str]] = (
        (step, row.action, row.image, row.key) for row in rows
    )
    while batch := list(islice(waiting, _BATCH)):
        file.executemany(f"INSERT INTO {into} VALUES (?, ?, ?, ?)", batch)


@contextmanager
def _translated(path: Path) -> Iterator[None]:
    try:
        yield
    except sqlite3.Error as error:
        raise ArchiveFailed(f"The rows under the seal, {path}, failed: {error}.") from error
    except OSError as error:
        raise ArchiveFailed(
            f"The rows under the seal, {path}, cannot be written: {error.strerror}."
        ) from error
