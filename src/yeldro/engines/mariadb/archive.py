"""Archiving rows and putting them back, on MariaDB."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from functools import partial
from itertools import chain
from typing import Any

import pymysql
import pymysql.constants.SERVER_STATUS
import pymysql.cursors
import sqlalchemy as sa

from yeldro.core.database.archive_format import Form, Piece, Portion, Sink, Source, Stage
from yeldro.core.database.row_block import RowBlock
from yeldro.core.model.key_set import StoredKeys
from yeldro.core.model.schema import Column, Table
from yeldro.engines.mariadb.part import MariadbOwner
from yeldro.engines.mariadb.settings import LOADING, PINNED
from yeldro.engines.mariadb.statements import (
    OWN_KEY,
    MariadbStatements,
)
from yeldro.engines.mariadb.values import (
    Way,
    find_way,
    within_packets,
    write_block,
    write_plain,
    write_row,
)
from yeldro.engines.shared.archive import SqlArchive
from yeldro.engines.shared.statements import Rows, Words, bare, in_brackets
from yeldro.errors import DatabaseFailed, Refused

# Rows that the driver hands over at a time. More takes memory and saves no time.
_FETCHED = 1000
# Keys that the server puts into one text, if they fit.
_KEYS = 10_000


class MariadbArchive(SqlArchive):
    """The part of a connection."""

    _database: MariadbOwner
    _statements: MariadbStatements

    def find_form(self, column: Column) -> Form:
        return Form(find_way(column).name)

    def extract(self, pieces: Sequence[Piece], sink: Sink) -> list[int]:
        return [sink.add(piece.portion, self._lines(piece)) for piece in pieces]

    def extract_keys(self, portion: Portion, numbered: StoredKeys, sink: Sink) -> int:
        """Many keys a text: taking rows from the driver is what takes long. Groups may be large, so
        their members come one by one."""
        number = self._statements.key_table(numbered).c.round
        last = self._gate.number(sa.select(sa.func.max(number)))
        if last != portion.rows:
            line = self._statements.line(self._statements.copied_keys(numbered))
            rows = sa.select(line).select_from(self._statements.key_table(numbered))
            return sink.add(portion, self._send_lines(rows, portion.table))
        parts = (
            self._key_lines(numbered, first, min(last, first + _KEYS - 1))
            for first in range(1, last + 1, _KEYS)
        )
        return sink.add(portion, chain.from_iterable(parts))

    def _key_lines(self, numbered: StoredKeys, first: int, last: int) -> Iterator[bytes]:
        keys = self._database.numbered.between(numbered, first, last)
        line = self._statements.whole_line(self._statements.copied_keys(keys))
        lines = sa.select(sa.func.group_concat(line.op("SEPARATOR")(sa.literal_column(r"'\n'"))))
        query = self._gate.writer.write(lines)
        self._gate.note(query)
        with self._gate.translated(), self._database.raw.cursor() as cursor:
            cursor.execute(query)
            ((text,),) = cursor.fetchall()
            is_whole = text is not None and not cursor.warning_count
        if is_whole:
            yield text + b"\n"
        elif first == last:
            raise _is_too_large(keys.table)
        else:
            middle = (first + last) // 2
            yield from self._key_lines(numbered, first, middle)
            yield from self._key_lines(numbered, middle + 1, last)

    def _lines(self, piece: Piece) -> Iterator[bytes]:
        """One text a row, made by the server: taking cells apart is what the driver is slow at."""
        line = self._statements.line(self._statements.copied(piece.portion, piece.keys))
        rows = self._statements.select_copied(piece.portion, piece.keys, [line])
        return self._send_lines(rows, piece.portion.table)

    def _send_lines(self, rows: Rows, table: Table) -> Iterator[bytes]:
        query = self._gate.writer.write(rows)
        self._gate.note(query)
        with self._gate.translated(), self._database.raw.cursor(pymysql.cursors.SSCursor) as cursor:
            cursor.execute(query)
            while rows := cursor.fetchmany(_FETCHED):
                for (text,) in rows:
                    # The server gives NULL for a text that would not fit a packet, and no error.
                    if text is None:
                        raise _is_too_large(table)
                    yield (text.replace(b"\n", b"\\n") if b"\n" in text else text) + b"\n"

    def _fill_stage(self, stage: Stage, source: Source) -> None:
        clause, cells = self._statements.table(stage.table), stage.portion.cells
        table = sa.table(stage.name)
        empty = sa.select(*(clause.c[own].label(name) for name, own in cells)).where(sa.false())
        self._gate.run(Words("CREATE TEMPORARY TABLE", table, OWN_KEY, "AS", bare(empty)))
        names = in_brackets([sa.column(name) for name, _ in cells])
        start = self._gate.writer.write(Words("INSERT INTO", table, names, "VALUES "))
        ways = [find_way(stage.table.column(own)) for _, own in cells]
        # In a strict mode the error value of an ENUM cannot be written; without one it is the only
        # cause of warnings.
        strict = PINNED["sql_mode"]
        mode = LOADING if any(way.is_enum for way in ways) else f"{strict},{LOADING}"
        self._gate.run_text(f"SET SESSION sql_mode = '{mode}'")
        self._gate.run_text("START TRANSACTION")
        with self._gate.translated(), self._database.raw.cursor() as cursor:
            for block in source.blocks(stage.portion):
                self._send_rows(cursor, start, ways, block, stage.table.label)
        self._gate.run_text("COMMIT")
        self._gate.run_text(f"SET SESSION sql_mode = '{strict}'")

    def _send_rows(
        self,
        cursor: Any,
        start: str,
        ways: Sequence[Way],
        block: RowBlock,
        label: str,
    ) -> None:
        """Send rows of an archive."""
        are_texts = all(map(_is_text, ways))
        if are_texts and (values := write_block(block)) is not None:
            cursor.execute(start + values)
            if cursor.warning_count:
                raise DatabaseFailed(f"Some archived values do not fit into {label} any more.")
            return
        rows = block.read()
        write = write_plain if block.is_plain and are_texts else partial(write_row, ways)
        # Each error value of an ENUM is one warning, and nothing else may be one.
        enums = [place for place, way in enumerate(ways) if way.is_enum]
        written = [write(row) for row in rows]
        for first, statement in within_packets(start, written):
            taken = rows[first : first + cursor.execute(statement)]
            errors = sum(ways[place].is_error(row[place]) for row in taken for place in enums)
            if cursor.warning_count != errors:
                raise DatabaseFailed(f"Some archived values do not fit into {label} any more.")

    def insert(self, stage: Stage) -> int:
        """References are checked row by row: those within a table wait for our own checks."""
        # Row by row a child may come before its parent.
        if any(reference.is_self for reference in self._database.schema.outgoing(stage.table)):
            return self.insert_together([stage])[0]
        return super().insert(stage)

    def reattach(self, stage: Stage) -> int:
        """Where rows are paired by looking at all of them, the server counts what it writes down
        for that too."""
        if stage.key:
            return super().reattach(stage)
        pairs = self._statements.pairs(stage, self._left(stage))
        found = sa.table(
            next(self._names), *(sa.column(cell.name) for cell in pairs.selected_columns)
        )
        # What goes into a table of our own must not look like a change of the run.
        before = self._database.count_writes()
        self._gate.run(Words("CREATE TEMPORARY TABLE", found, OWN_KEY, "AS", bare(pairs)))
        self._database.aside += self._database.count_writes() - before
        return self._gate.run(self._statements.reattach(stage, self._left(stage), found)).rowcount

    def insert_together(self, stages: Sequence[Stage]) -> list[int]:
        with self._database.unchecked():
            return [SqlArchive.insert(self, stage) for stage in stages]

    def allow_orphans(self) -> None:
        self._gate.run_text("SET SESSION foreign_key_checks = 0")


def _is_too_large(table: Table) -> Refused:
    return Refused(
        f"A row of {table.label} is larger than the server's max_allowed_packet.",
        "Let it be larger, or leave a column out of the archive.",
    )


def _is_text(way: Way) -> bool:
    """Whether a value of this way stands in quotes as it is."""
    return way.name in ("text", "plain", "own text", "double") and not way.is_enum
