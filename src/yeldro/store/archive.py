"""`rows.sqlite`, the archive of a run: an SQLite database that anybody can open.

It has a table, or a view, for each source table, with its names. Where the engine is SQLite itself,
the rows stand in tables as they were stored; others send their values as texts, which are kept in
`yeldro_blocks`, many rows to a JSON array, and shown by views. The other `yeldro_` tables say where
each row came from and how each column is kept.
"""

from __future__ import annotations

import json
import os
import re
import sqlite3
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Any

from yeldro.core.database.archive_format import ELSEWHERE, Cells, Form, Portion
from yeldro.core.model.schema import Column, Reference, Schema, TableName
from yeldro.errors import ArchiveFailed, Refused
from yeldro.store.disk import create_private, sync

_CATALOGUE = """
CREATE TABLE yeldro_archive (engine TEXT NOT NULL, complete INTEGER NOT NULL);
CREATE TABLE yeldro_portions (portion INTEGER PRIMARY KEY, source_schema TEXT NOT NULL,
source_table TEXT NOT NULL,
  shown_as TEXT NOT NULL, row_key TEXT NOT NULL, action TEXT NOT NULL, reference TEXT, changed TEXT
  NOT NULL,
  to_default INTEGER NOT NULL, rows INTEGER NOT NULL, alike INTEGER, orphans TEXT NOT NULL,
  first_row INTEGER,
  last_row INTEGER, copy_schema TEXT, copy_table TEXT, waits TEXT NOT NULL, step INTEGER NOT NULL);
CREATE TABLE yeldro_columns (shown_in TEXT NOT NULL, place INTEGER NOT NULL, source_column TEXT NOT
NULL,
  shown_as TEXT NOT NULL, type TEXT NOT NULL, kept_as TEXT NOT NULL, generated INTEGER NOT NULL,
  left_out INTEGER NOT NULL);
CREATE TABLE yeldro_blocks (block INTEGER PRIMARY KEY, portion INTEGER NOT NULL, rows TEXT NOT
NULL);
"""
_TABLES = re.findall(r"CREATE TABLE (\w+)", _CATALOGUE)
_BLOCK_ROWS, _BLOCK_BYTES = 1000, 1 << 20
# What JSON cannot hold as it is, and the one escape of COPY that JSON does not have.
_COMMON = bytes({*range(256)} - {*range(0x20)} | {0x09, 0x0A})
_ESCAPE = re.compile(rb"\\.|[\x00-\x08\x0b-\x1f]", re.DOTALL)


class ArchiveWriter:
    """Makes the file and fills it, once for each step. Fulfils `core.archive.Sink`. Every fault is
    an ArchiveFailed.

    `portions` counts those that were written.
    """

    def __init__(self, path: Path, engine: str, encoding: str) -> None:
        self.path = path
        self.tick: Callable[[int], None] = lambda _: None
        self.portions = 0
        self._shown: dict[TableName, tuple[str, dict[str, str]]] = {}
        self._next: dict[TableName, int] = {}
        self._engine = engine
        with _translated(path):
            os.close(create_private(path))
            self._open()
            self._file.executescript(f"PRAGMA encoding = '{encoding}'; BEGIN; {_CATALOGUE}")
            self._file.execute("INSERT INTO yeldro_archive VALUES (?, 0)", (engine,))
            self._file.execute("COMMIT")
            self._file.close()

    def _open(self) -> None:
        self._file = sqlite3.connect(self.path, isolation_level=None)
        self._file.execute("PRAGMA synchronous = FULL")

    def begin(
        self,
        portions: Sequence[Portion],
        find_form: Callable[[Column], Form],
        copies: Mapping[TableName, TableName],
    ) -> None:
        """Write the catalogue. `copies` are the tables of the database itself that hold the rows,
        by their source."""
        plain = bool(copies) or self._engine == "sqlite"
        self.portions += len(portions)
        with _translated(self.path):
            self._open()
            self._file.execute("BEGIN")
            for portion in portions:
                new = portion.table.name not in self._shown
                self._name(portion)
                self._write_portion(portion, copies.get(portion.table.name))
                if new:
                    self._write_columns(portion, find_form)
                    if not plain:
                        self._show(portion)
            self._file.execute("COMMIT")
            if not plain:  # else the engine writes the file over a connection of its own
                self._file.execute("BEGIN")

    def _name(self, portion: Portion) -> None:
        """SQLite's names ignore case, and some are its own or ours."""
        taken = {name.lower() for name, _ in self._shown.values()}
        table = _free(portion.table.label, taken)
        columns: dict[str, str] = {}
        for column in portion.columns:
            columns[column] = _free(column, {name.lower() for name in columns.values()})
        self._shown.setdefault(portion.table.name, (table, columns))

    def shown(self, portion: Portion) -> tuple[str, tuple[str, ...]]:
        table, columns = self._shown[portion.table.name]
        return table, tuple(columns[name] for name in portion.columns)

    def _write_portion(self, portion: Portion, copy: TableName | None) -> None:
        name = portion.table.name
        self._file.execute(
            "INSERT INTO yeldro_portions VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, NULL, NULL, "
            "?, ?, ?, ?)",
            (
                portion.number,
                name.schema,
                name.name,
                self._shown[name][0],
                json.dumps(portion.key),
                portion.action,
                str(portion.reference) if portion.reference else None,
                json.dumps(portion.changed),
                portion.to_default,
                portion.rows,
                portion.alike,
                json.dumps(portion.orphans or {}),
                copy.schema if copy else None,
                copy.name if copy else None,
                json.dumps(portion.waits),
                portion.step,
            ),
        )

    def _write_columns(self, portion: Portion, find_form: Callable[[Column], Form]) -> None:
        table, columns = self._shown[portion.table.name]
        for place, column in enumerate(portion.table.columns):
            row = (
                table,
                place,
                column.name,
                columns.get(column.name, ""),
                column.type,
                find_form(column).name,
                column.generated,
                column.name not in columns,
            )
            self._file.execute("INSERT INTO yeldro_columns VALUES (?, ?, ?, ?, ?, ?, ?, ?)", row)

    def _show(self, portion: Portion) -> None:
        table, columns = self.shown(portion)
        cells = ", ".join(
            f"json_extract(value, '$[{place}]') AS {quoted(name)}"
            for place, name in enumerate(columns)
        )
        numbers = (
            "SELECT portion FROM yeldro_portions WHERE shown_as = "
            f"'{table.replace(chr(39), chr(39) * 2)}'"
        )
        rows = f"FROM yeldro_blocks, json_each(yeldro_blocks.rows) WHERE portion IN ({numbers})"
        self._file.execute(f"CREATE VIEW {quoted(table)} AS SELECT {cells or 'NULL'} {rows}")

    def add(self, portion: Portion, lines: Iterator[bytes]) -> int:
        total, size, waiting = 0, 0, []
        for line in lines:
            waiting.append(line)
            size += len(line)
            if len(waiting) == _BLOCK_ROWS or size > _BLOCK_BYTES:
                total += self._add_block(portion, waiting)
                size, waiting = 0, []
        return total + (self._add_block(portion, waiting) if waiting else 0)

    def _add_block(self, portion: Portion, lines: list[bytes]) -> int:
        try:
            text = pack(lines)
        except UnicodeDecodeError:
            raise ArchiveFailed(
                f"A text in {portion.table.label} is not valid in the server's encoding."
            ) from None
        with _translated(self.path):
            self._file.execute(
                "INSERT INTO yeldro_blocks (portion, rows) VALUES (?, ?)", (portion.number, text)
            )
        self.tick(len(lines))
        return len(lines)

    def finish(self, copied: Sequence[tuple[Portion, int]]) -> None:
        """Compare the counts, then commit, sync and close. Refused where a count differs."""
        for portion, rows in copied:
            if rows != portion.rows:
                label = portion.table.label
                raise Refused(
                    f"{portion.rows:,} rows of {label} were to be archived, {rows:,} were found."
                )
        with _translated(self.path):
            if not self._file.in_transaction:
                self._file.execute("BEGIN")
                for portion, rows in copied:
                    start = self._next.get(portion.table.name, 1)
                    self._next[portion.table.name] = start + rows
                    self._file.execute(
                        "UPDATE yeldro_portions SET first_row = ?, last_row = ? WHERE portion = ?",
                        (start, start + rows - 1, portion.number),
                    )
            self._file.execute("COMMIT")
            self._file.close()
            sync(self.path)
            sync(self.path.parent)

    def complete(self) -> None:
        """Nothing comes after this: from now on the database may commit."""
        with _translated(self.path):
            self._open()
            self._file.execute("UPDATE yeldro_archive SET complete = 1")
            self._file.close()
            sync(self.path)

    def close(self) -> None:
        with suppress(sqlite3.Error):
            self._file.close()


def pack(lines: Sequence[bytes]) -> str:
    """Lines in the text form of COPY, each ending in a line break, as a JSON array of rows of texts
    and nulls.

    COPY escapes what JSON escapes, but for quotes, rare control characters and NULL.
    """
    text = b"".join(lines)
    if b"\\v" in text or text.translate(None, _COMMON):
        text = _ESCAPE.sub(_escape, text)
    text = text.replace(b'"', b'\\"').replace(b"\t", b'","').replace(b"\n", b'"],["')
    return (b'[["' + text[:-3] + b"]").replace(b'"\\N"', b"null").decode()


def _escape(found: re.Match[bytes]) -> bytes:
    one = found[0]
    if one == b"\\v":
        return b"\\u000b"
    return one if len(one) == 2 else b"\\u%04x" % one[0]


def _free(name: str, taken: set[str]) -> str:
    """A name as it is, unless SQLite or we need it, or it is taken."""
    wanted = f"_{name}" if name.lower().startswith(("sqlite_", "yeldro_", "_rowid_")) else name
    found, number = wanted, 2
    while found.lower() in taken:
        found, number = f"{wanted} ({number})", number + 1
    return found


def quoted(name: str) -> str:
    return '"' + name.replace('"', '""') + '"'


class ArchiveReader:
    """Reads an archive. Fulfils `core.archive.Source`. ArchiveFailed where it is damaged."""

    def __init__(self, path: Path, tick: Callable[[int], None] = lambda _: None) -> None:
        self.path = path
        self.tick = tick
        if not path.exists():
            raise ArchiveFailed(f"There is no archive {path}.")
        with _translated(path):
            self._file = sqlite3.connect(path, isolation_level=None)
            check_tables(self._file, *_TABLES)

    @property
    def is_complete(self) -> bool:
        """Whether it was finished."""
        return self._query("SELECT complete FROM yeldro_archive") == [(1,)]

    def _query(self, text: str, values: Sequence[Any] = ()) -> list[tuple[Any, ...]]:
        with _translated(self.path):
            return self._file.execute(text, values).fetchall()

    def portions(self, schema: Schema) -> list[Portion]:
        """The portions, fitted to the schema as it is now. Refused where it no longer fits."""
        rows = self._query(
            "SELECT portion, source_schema, source_table, shown_as, row_key, reference, changed, "
            "to_default, rows, alike, orphans, action, waits, step FROM yeldro_portions ORDER BY "
            "portion"
        )
        with _translated(self.path):
            return [self._portion(schema, row) for row in rows]

    def _portion(self, schema: Schema, row: tuple[Any, ...]) -> Portion:
        (
            number,
            place,
            name,
            shown,
            key,
            reference,
            changed,
            to_default,
            rows,
            alike,
            orphans,
            action,
            waits,
            step,
        ) = row
        table = _find_table(schema, place, name)
        found = self._query(
            "SELECT source_column, type, generated, left_out FROM yeldro_columns WHERE shown_in = "
            "? ORDER BY place",
            (shown,),
        )
        for column, type_, generated, left_out in found:
            if not left_out and column not in table.column_names:
                raise Refused(
                    f"{table.label} has no column {column} any more.", "Add it, and restore again."
                )
            now = None if left_out else table.column(column)
            if now and not _is_same_type(now, type_, bool(generated)):
                raise Refused(f"{table.label}.{column} was {type_}, and is {now.type} now.")
        if json.loads(key) and tuple(json.loads(key)) not in table.lasting_keys:
            raise Refused(f"{table.label} ({', '.join(json.loads(key))}) is not unique any more.")
        known = {column for column, _, _, _ in found}
        for new in table.columns:
            if new.name not in known and not (new.nullable or new.default or new.generated):
                raise Refused(
                    f"{table.label} has a new column {new.name} that needs a value.",
                    "Give it a default.",
                )
        return Portion(
            number,
            table,
            tuple(column for column, _, _, left_out in found if not left_out),
            rows,
            tuple(json.loads(key)),
            _find_reference(schema, reference) if reference else None,
            tuple(json.loads(changed)),
            bool(to_default),
            alike,
            json.loads(orphans),
            action,
            tuple(json.loads(waits)),
            step,
        )

    def shown(self, portion: Portion) -> tuple[str, tuple[str, ...]]:
        found = dict(
            self._query(
                "SELECT c.source_column, c.shown_as FROM yeldro_columns AS c JOIN yeldro_portions "
                "AS p ON c.shown_in = p.shown_as WHERE p.portion = ?",
                (portion.number,),
            )
        )
        table = self._query(
            "SELECT shown_as FROM yeldro_portions WHERE portion = ?", (portion.number,)
        )[0][0]
        with _translated(self.path):
            check_tables(self._file, table)
        return table, tuple(found[name] for name in portion.columns)

    def copy(self, portion: Portion) -> TableName | None:
        schema, name = self._query(
            "SELECT copy_schema, copy_table FROM yeldro_portions WHERE portion = ?",
            (portion.number,),
        )[0]
        return TableName(schema, name) if name else None

    def place(self, portion: Portion) -> tuple[int, int]:
        first, last = self._query(
            "SELECT first_row, last_row FROM yeldro_portions WHERE portion = ?", (portion.number,)
        )[0]
        return int(first), int(last)

    def rows(self, portion: Portion) -> Iterator[tuple[list[Cells], bool]]:
        with _translated(self.path):
            blocks = self._file.execute(
                "SELECT rows FROM yeldro_blocks WHERE portion = ? ORDER BY block", (portion.number,)
            )
            for (text,) in blocks:
                rows = json.loads(text)
                yield rows, "\\" not in text.replace('\\"', "")
                self.tick(len(rows))

    def close(self) -> None:
        self._file.close()


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


def _is_same_type(column: Column, type_: str, generated: bool) -> bool:
    """Archives of old named types without their schema."""
    return column.generated == generated and (
        column.type == type_ or column.type.endswith(f".{type_}")
    )


def _find_table(schema: Schema, place: str, name: str) -> Any:
    """The table of this name; in another database, the one of this name in its default schema."""
    exact = schema.by_name.get(TableName(place, name))
    alike = [table for table in schema.tables if table.label == name]
    if exact is None and not alike:
        raise Refused(
            f"The table {name} of the run is not in this database.",
            "Rename it back, or make it again.",
        )
    return exact or alike[0]


def _find_reference(schema: Schema, text: str) -> Reference:
    for reference in schema.acting:
        if str(reference) == text:
            return reference
    raise Refused(
        f"The reference {text}, which the run took away from rows, is not declared any more."
    )


@contextmanager
def _translated(path: Path) -> Iterator[None]:
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
