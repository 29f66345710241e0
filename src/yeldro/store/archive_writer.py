"""`rows.sqlite`, the archive of a run, as it is written."""

from __future__ import annotations

import json
import os
import sqlite3
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import suppress
from pathlib import Path

from yeldro.core.database.archive_format import Form, Portion
from yeldro.core.model.schema import Column, TableName
from yeldro.errors import ArchiveFailed, Refused
from yeldro.store.archive_catalogue import CATALOGUE, quoted, translated
from yeldro.store.copy_text import pack
from yeldro.store.disk import create_private, sync

# Rows lie in blocks, because a row of its own for each would take longer than reading them from the
# server.
_BLOCK_ROWS, _BLOCK_BYTES = 1000, 1 << 20


class ArchiveWriter:
    """Makes the file and fills it, once for each step; `again` where it was made before. Fulfils
    `core.archive.Sink`. Every fault is an ArchiveFailed.

    `portions` counts those that were written.
    """

    def __init__(self, path: Path, engine: str, encoding: str, *, again: bool = False) -> None:
        self.path = path
        self.tick: Callable[[int], None] = lambda _: None
        self.portions = 0
        self._shown: dict[TableName, tuple[str, dict[str, str]]] = {}
        self._next: dict[TableName, int] = {}
        self._engine = engine
        if again:
            self._go_on()
            return
        with translated(path):
            # Made by us and empty before SQLite opens it, so that nobody else can read it for a
            # moment.
            os.close(create_private(path))
            self._open()
            self._file.executescript(f"PRAGMA encoding = '{encoding}'; BEGIN; {CATALOGUE}")
            self._file.execute("INSERT INTO yeldro_archive VALUES (?, 0)", (engine,))
            self._file.execute("COMMIT")
            self._file.close()

    def _open(self) -> None:
        self._file = sqlite3.connect(self.path, isolation_level=None)
        # A commit of this file means that it is on disk. The database commits after that.
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
        with translated(self.path):
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
        total, rows, size, waiting = 0, 0, 0, []
        for some in lines:
            waiting.append(some)
            size += len(some)
            # A break within a value is escaped.
            rows += some.count(b"\n")
            if rows >= _BLOCK_ROWS or size > _BLOCK_BYTES:
                self._add_block(portion, waiting, rows)
                total, rows, size, waiting = total + rows, 0, 0, []
        if rows:
            self._add_block(portion, waiting, rows)
        return total + rows

    def _add_block(self, portion: Portion, lines: list[bytes], rows: int) -> None:
        try:
            text = pack(lines)
        except UnicodeDecodeError:
            raise ArchiveFailed(
                f"A text in {portion.table.label} is not valid in the server's encoding."
            ) from None
        with translated(self.path):
            self._file.execute(
                "INSERT INTO yeldro_blocks (portion, rows) VALUES (?, ?)", (portion.number, text)
            )
        self.tick(rows)

    def finish(self, copied: Sequence[tuple[Portion, int]]) -> None:
        """Compare the counts, then commit, sync and close. Refused where a count differs."""
        for portion, rows in copied:
            if rows != portion.rows:
                label = portion.table.label
                raise Refused(
                    f"{portion.rows:,} rows of {label} were to be archived, {rows:,} were found."
                )
        with translated(self.path):
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

    def _go_on(self) -> None:
        """Take up a file that was written before."""
        with translated(self.path):
            self._open()
            self._file.execute("UPDATE yeldro_archive SET complete = 0")
            for schema, table, shown, number, last in self._file.execute(
                "SELECT source_schema, source_table, shown_as, max(portion), max(last_row) FROM "
                "yeldro_portions GROUP BY 1, 2, 3"
            ).fetchall():
                columns = self._file.execute(
                    "SELECT source_column, shown_as FROM yeldro_columns WHERE shown_in = ?",
                    (shown,),
                )
                self._shown[TableName(schema, table)] = (shown, dict(columns.fetchall()))
                self._next[TableName(schema, table)] = (last or 0) + 1
                self.portions = max(self.portions, number)
            self._file.close()

    def cut_back(self, step: int) -> None:
        """Take out what came after a step: it was not committed."""
        self.close()
        later = "FROM yeldro_portions WHERE step > ?"
        with translated(self.path):
            self._open()
            self._file.execute("BEGIN")
            kinds = dict(self._file.execute("SELECT name, type FROM sqlite_master").fetchall())
            for number, shown in self._file.execute(
                f"SELECT portion, shown_as {later}", (step,)
            ).fetchall():
                self._file.execute("DELETE FROM yeldro_blocks WHERE portion = ?", (number,))
                self._file.execute(f"DROP TABLE IF EXISTS yeldro_left_{int(number)}")
                if kinds.get(shown) == "table":
                    self._cut_back_table(shown, step)
            self._file.execute(f"DELETE {later}", (step,))
            (self.portions,) = self._file.execute(
                "SELECT coalesce(max(portion), 0) FROM yeldro_portions"
            ).fetchone()
            self._file.execute("COMMIT")
            self._file.close()
            sync(self.path)

    def _cut_back_table(self, shown: str, step: int) -> None:
        """The rows that stand in a table of their own, as where the engine is SQLite."""
        (last,) = self._file.execute(
            "SELECT coalesce(max(last_row), 0) FROM yeldro_portions WHERE shown_as = ? AND step <= "
            "?",
            (shown, step),
        ).fetchone()
        self._file.execute(f"DELETE FROM {quoted(shown)} WHERE rowid > ?", (last,))
        for name, (own, _) in self._shown.items():
            if own == shown:
                self._next[name] = last + 1

    def complete(self) -> None:
        """Nothing comes after this: from now on the database may commit."""
        with translated(self.path):
            self._open()
            self._file.execute("UPDATE yeldro_archive SET complete = 1")
            self._file.close()
            sync(self.path)

    def close(self) -> None:
        with suppress(sqlite3.Error):
            self._file.close()


def _free(name: str, taken: set[str]) -> str:
    """A name as it is, unless SQLite or we need it, or it is taken."""
    wanted = f"_{name}" if name.lower().startswith(("sqlite_", "yeldro_", "_rowid_")) else name
    found, number = wanted, 2
    while found.lower() in taken:
        found, number = f"{wanted} ({number})", number + 1
    return found
