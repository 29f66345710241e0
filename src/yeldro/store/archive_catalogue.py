"""What `rows.sqlite`, the archive of a run, is made of: an SQLite database that anybody can open.

It has a table, or a view, for each source table, with its names. Where the engine is SQLite itself,
the rows stand in tables as they were stored; others send their values as texts, which are kept in
`yeldro_blocks`, many rows to a JSON array, and shown by views. The other `yeldro_` tables say where
each row came from and how each column is kept.
"""

from __future__ import annotations

import re
import sqlite3
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path

from yeldro.core.database.archive_format import ELSEWHERE
from yeldro.errors import ArchiveFailed

# Names begin with yeldro_, so that they hardly meet those of a person's tables.
CATALOGUE = """
CREATE TABLE yeldro_archive (engine TEXT NOT NULL, complete INTEGER NOT NULL);
CREATE TABLE yeldro_portions (
  portion INTEGER PRIMARY KEY, source_schema TEXT NOT NULL, source_table TEXT NOT NULL,
  shown_as TEXT NOT NULL, row_key TEXT NOT NULL, action TEXT NOT NULL, reference TEXT,
  changed TEXT NOT NULL, to_default INTEGER NOT NULL, rows INTEGER NOT NULL, alike INTEGER,
  orphans TEXT NOT NULL, first_row INTEGER, last_row INTEGER, copy_schema TEXT, copy_table TEXT,
  waits TEXT NOT NULL, step INTEGER NOT NULL);
CREATE TABLE yeldro_columns (
  shown_in TEXT NOT NULL, place INTEGER NOT NULL, source_column TEXT NOT NULL,
  shown_as TEXT NOT NULL, type TEXT NOT NULL, kept_as TEXT NOT NULL, generated INTEGER NOT NULL,
  left_out INTEGER NOT NULL);
CREATE TABLE yeldro_blocks (
  block INTEGER PRIMARY KEY, portion INTEGER NOT NULL, rows TEXT NOT NULL);
CREATE INDEX yeldro_blocks_of ON yeldro_blocks (portion);
"""


TABLES = re.findall(r"CREATE TABLE (\w+)", CATALOGUE)


def quoted(name: str) -> str:
    return '"' + name.replace('"', '""') + '"'


def write_view(table: str, columns: Sequence[str]) -> str:
    """The statement for the view that shows the rows of a table that stand in blocks."""
    cells = ", ".join(
        f"json_extract(value, '$[{place}]') AS {quoted(name)}" for place, name in enumerate(columns)
    )
    numbers = (
        "SELECT portion FROM yeldro_portions WHERE shown_as = "
        f"'{table.replace(chr(39), chr(39) * 2)}'"
    )
    rows = f"FROM yeldro_blocks, json_each(yeldro_blocks.rows) WHERE portion IN ({numbers})"
    return f"CREATE VIEW {quoted(table)} AS SELECT {cells or 'NULL'} {rows}"


def write_table(table: str, columns: Sequence[str]) -> str:
    """The statement for a table that rows stand in, as SQLite keeps it."""
    return f"CREATE TABLE {quoted(table)} ({', '.join(map(quoted, columns))})"


def check_contents(file: sqlite3.Connection) -> None:
    """Whether an archive holds nothing but what we make: a trigger in it would act on whatever is
    written, a view or a generated column need not have an end.

    sqlite3.Error where it does not.
    """
    check_tables(file, *TABLES)
    known = {text.strip() for text in CATALOGUE.split(";")}
    shown: dict[str, list[str]] = {}
    for table, column in file.execute(
        "SELECT shown_in, shown_as FROM yeldro_columns WHERE left_out = 0 ORDER BY shown_in, place"
    ):
        shown.setdefault(str(table), []).append(str(column))
    for table, columns in shown.items():
        known |= {write_view(table, columns), write_table(table, columns)}
    for kind, name, sql in file.execute("SELECT type, name, sql FROM main.sqlite_master"):
        own = sql is None or sql in known or _LEFT.fullmatch(sql)
        if not own:
            raise sqlite3.DatabaseError(f"the {kind} {name} in it is none of ours")


_LEFT = re.compile(r"CREATE TABLE yeldro_left_\d+ \(l\d+(?:, l\d+)*\)")


def check_tables(file: sqlite3.Connection, *names: str) -> None:
    """Whether these are tables. In a file of somebody else a view, which need not have an end, may
    stand for one.

    sqlite3.Error where they are not.
    """
    found = file.execute(
        "SELECT name FROM main.sqlite_master WHERE type = 'table' AND sql NOT LIKE 'CREATE "
        "VIRTUAL%'"
    )
    if not {name.lower() for name in names} <= {str(name).lower() for (name,) in found}:
        raise sqlite3.DatabaseError("it is not as Yeldro writes it")


@contextmanager
def translated(path: Path) -> Iterator[None]:
    try:
        yield
    except sqlite3.Error as error:
        code = getattr(error, "sqlite_errorcode", 0) & 0xFF
        if code == sqlite3.SQLITE_FULL:
            raise ArchiveFailed(
                f"The archive {path} failed: the disk is full.", ELSEWHERE
            ) from error
        raise ArchiveFailed(
            f"The archive {path} is damaged, or cannot be used: {error}."
        ) from error
    except (ValueError, TypeError, KeyError, IndexError, AttributeError, RecursionError) as error:
        raise ArchiveFailed(f"The archive {path} is damaged ({type(error).__name__}).") from error
    except OSError as error:
        raise ArchiveFailed(
            f"The archive {path} cannot be written: {error.strerror}.", ELSEWHERE
        ) from error
