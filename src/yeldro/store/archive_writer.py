"""`rows.sqlite`, the archive of a run, as it is written."""

from __future__ import annotations

import json
import os
import sqlite3
from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from contextlib import suppress
from pathlib import Path

from yeldro.core.database.archive_format import Form, Portion
from yeldro.core.model.schema import Column, TableName
from yeldro.errors import ArchiveFailed, Refused
from yeldro.store.archive_catalogue import (
    CATALOGUE,
    check_contents,
    quoted,
    translated,
    write_view,
)
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
        self._shown: dict[_Definition, tuple[str, dict[str, str]]] = {}
        self._next: dict[str, int] = {}
        self._engine = engine
        if again:
            self._go_on()
            return
        with translated(path):
            # Made by us and empty before SQLite opens it, so that nobody else can read it for a
            # moment; under its name only once it has a catalogue.
            new = path.with_name(f"{path.name}.new")
            new.unlink(missing_ok=True)
            os.close(create_private(new))
            self._open(new)
            self._file.executescript(f"PRAGMA encoding = '{encoding}'; BEGIN; {CATALOGUE}")
            self._file.execute("INSERT INTO yeldro_archive VALUES (?, 0)", (engine,))
            self._file.execute("COMMIT")
            self._file.close()
            new.rename(path)

    def _open(self, path: Path | None = None) -> None:
        self._file = sqlite3.connect(path or self.path, isolation_level=None)
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
                new = _define(portion) not in self._shown
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
        """SQLite's names ignore case, and some are its own or ours. A table that was defined anew
        meanwhile is another one here."""
        taken = {name.lower() for name, _ in self._shown.values()}
        table = _free(portion.table.label, taken)
        columns: dict[str, str] = {}
        for column in portion.columns:
            columns[column] = _free(column, {name.lower() for name in columns.values()})
        self._shown.setdefault(_define(portion), (table, columns))

    def shown(self, portion: Portion) -> tuple[str, tuple[str, ...]]:
        table, columns = self._shown[_define(portion)]
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
                self._shown[_define(portion)][0],
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
        table, columns = self._shown[_define(portion)]
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
        self._file.execute(write_view(table, columns))

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
                    shown, _ = self._shown[_define(portion)]
                    start = self._next.get(shown, 1)
                    self._next[shown] = start + rows
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
            check_contents(self._file)
            self._file.execute("UPDATE yeldro_archive SET complete = 0")
            for schema, table, shown, number, last in self._file.execute(
                "SELECT source_schema, source_table, shown_as, max(portion), max(last_row) FROM "
                "yeldro_portions GROUP BY 1, 2, 3"
            ).fetchall():
                columns = self._file.execute(
                    "SELECT source_column, shown_as, type, generated, left_out FROM "
                    "yeldro_columns WHERE shown_in = ? ORDER BY place",
                    (shown,),
                ).fetchall()
                defined = tuple(
                    (name, type_, bool(made), bool(out)) for name, _, type_, made, out in columns
                )
                names = {name: own for name, own, _, _, out in columns if not out}
                self._shown[TableName(schema, table), defined] = (shown, names)
                self._next[shown] = (last or 0) + 1
                self.portions = max(self.portions, number)
            self._file.close()

    def find_steps(self) -> set[int]:
        """The steps that it holds anything of."""
        with translated(self.path):
            self._open()
            found = self._file.execute("SELECT DISTINCT step FROM yeldro_portions").fetchall()
            self._file.close()
        return {int(step) for (step,) in found}

    def cut(self, steps: Collection[int]) -> None:
        """Take out what was copied in some steps, of which it is certain that nothing became of
        them, and what nothing is shown in any more."""
        self.close()
        listed = json.dumps(sorted(steps))
        of_these = "FROM yeldro_portions WHERE step IN (SELECT value FROM json_each(?))"
        with translated(self.path):
            self._open()
            self._file.execute("BEGIN")
            cut = self._file.execute(
                f"SELECT portion, shown_as, first_row, last_row {of_these}", (listed,)
            ).fetchall()
            self._file.execute(f"DELETE {of_these}", (listed,))
            for number, *_ in cut:
                self._file.execute("DELETE FROM yeldro_blocks WHERE portion = ?", (number,))
                self._file.execute(f"DROP TABLE IF EXISTS yeldro_left_{int(number)}")
            for shown in {shown for _, shown, _, _ in cut}:
                self._cut_shown(
                    shown, [(first, last) for _, own, first, last in cut if own == shown]
                )
            (self.portions,) = self._file.execute(
                "SELECT coalesce(max(portion), 0) FROM yeldro_portions"
            ).fetchone()
            self._file.execute("COMMIT")
            self._file.close()
            sync(self.path)

    def _cut_shown(self, shown: str, spans: Sequence[tuple[int | None, int | None]]) -> None:
        """Rows that stand in a table of their own, as where the engine is SQLite, or the table, or
        view, itself where nothing of it is left."""
        found = self._file.execute(
            "SELECT type FROM sqlite_master WHERE name = ? AND type IN ('table', 'view')", (shown,)
        ).fetchone()
        rows, last = self._file.execute(
            "SELECT count(*), coalesce(max(last_row), 0) FROM yeldro_portions WHERE shown_as = ?",
            (shown,),
        ).fetchone()
        if rows and found == ("table",):
            for span in spans:
                if None not in span:
                    self._file.execute(
                        f"DELETE FROM {quoted(shown)} WHERE rowid BETWEEN ? AND ?", span
                    )
            # What was never finished has no numbers yet.
            self._file.execute(f"DELETE FROM {quoted(shown)} WHERE rowid > ?", (last,))
        elif not rows:
            if found:
                self._file.execute(f"DROP {found[0].upper()} {quoted(shown)}")
            self._file.execute("DELETE FROM yeldro_columns WHERE shown_in = ?", (shown,))
            self._shown = {key: own for key, own in self._shown.items() if own[0] != shown}
        self._next[shown] = last + 1

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


# The name of a table, and its columns: each with its type, whether it is generated, and left out.
_Definition = tuple[TableName, tuple[tuple[str, str, bool, bool], ...]]


def _define(portion: Portion) -> _Definition:
    columns = tuple(
        (one.name, one.type, one.generated, one.name not in portion.columns)
        for one in portion.table.columns
    )
    return portion.table.name, columns


def _free(name: str, taken: set[str]) -> str:
    """A name as it is, unless SQLite or we need it, or it is taken."""
    wanted = f"_{name}" if name.lower().startswith(("sqlite_", "yeldro_", "_rowid_")) else name
    found, number = wanted, 2
    while found.lower() in taken:
        found, number = f"{wanted} ({number})", number + 1
    return found
