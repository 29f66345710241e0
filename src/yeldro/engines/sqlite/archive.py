"""SQLite's archive: rows go into its file, and come back, inside SQLite."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator, Sequence
from contextlib import closing, contextmanager
from urllib.parse import quote

import sqlalchemy as sa
from msgspec.structs import replace

from yeldro.core.database.archive_format import ELSEWHERE, Form, Piece, Portion, Sink, Source, Stage
from yeldro.core.database.sent import Kind
from yeldro.core.model.key_set import DependentRows, KeyRange, KeySet, StoredKeys
from yeldro.core.model.schema import Column, Reference
from yeldro.engines.shared.archive import SqlArchive
from yeldro.engines.shared.statements import Words, bare
from yeldro.engines.sqlite.authorizer import LISTEN, deny_changes_of_main
from yeldro.engines.sqlite.errors import translate
from yeldro.engines.sqlite.part import SqliteOwner
from yeldro.errors import ArchiveFailed

# Whole numbers that travel as one JSON text.
_KEYS_AT_ONCE = 20_000
# The least row number that there is.
_SMALLEST = -(2**63)


class SqliteArchive(SqlArchive):
    """The part of a connection that archives rows and stages archived ones."""

    _database: SqliteOwner

    def extract(self, pieces: Sequence[Piece], sink: Sink) -> list[int]:
        """Copy inside SQLite, over a second connection, so that the archive is committed before the
        database is.

        It sees what this one saw when it began, because nobody else can write until it ends. What
        earlier steps changed only this connection sees, which sends the rows of later ones.
        """
        # What this transaction has changed is not in the file yet, so the second connection cannot
        # see it.
        later = any(piece.later for piece in pieces)
        with self._writing(sink, ":memory:" if later else self._database.uri) as reader:
            spans = {piece: None if later else self._find_span(piece) for piece in pieces}
            fixed = dict.fromkeys(
                piece.keys.parents if isinstance(piece.keys, DependentRows) else piece.keys
                for piece in pieces
                if not spans[piece]
            )
            for keys in fixed:
                if isinstance(keys, StoredKeys) and not later:
                    self._send_keys(keys, reader)
            # The second connection writes the archive, and must not be able to write anything
            # else.
            reader.set_authorizer(deny_changes_of_main)
            sent = {
                piece: piece if later else replace(piece, keys=_as_sent(piece.keys))
                for piece in pieces
            }
            return [self._copy_piece(sent[one], spans[one], sink, reader) for one in pieces]

    @contextmanager
    def _writing(self, sink: Sink, source: str) -> Iterator[sqlite3.Connection]:
        """A connection to a source that has the archive attached, committed at the end."""
        with closing(sqlite3.connect(source, uri=True, isolation_level=None)) as reader:
            # So that Ctrl-C is heard while SQLite works.
            reader.set_progress_handler(lambda: 0, LISTEN)
            try:
                reader.execute(f"PRAGMA encoding = '{self._database.encoding}'")
                reader.execute("ATTACH ? AS yeldro_archive", (str(sink.path),))
                reader.execute("PRAGMA yeldro_archive.synchronous = FULL")
                reader.execute("BEGIN")
                yield reader
                reader.execute("COMMIT")
            except sqlite3.Error as error:
                code = getattr(error, "sqlite_errorcode", 0) & 0xFF
                if code == sqlite3.SQLITE_INTERRUPT:
                    raise translate(error) from error
                what = "the disk is full" if code == sqlite3.SQLITE_FULL else str(error)
                raise ArchiveFailed(
                    f"The archive {sink.path} failed: {what}.", ELSEWHERE
                ) from error

    def extract_keys(self, portion: Portion, numbered: StoredKeys, sink: Sink) -> int:
        place, raw = next(self._names), self._database.raw
        target, columns = _write_target(portion, sink, place)
        with self._gate.translated():
            raw.execute(f"ATTACH ? AS {place}", (str(sink.path),))
            try:
                raw.execute(f"PRAGMA {place}.synchronous = FULL")
                raw.execute("BEGIN")
                raw.execute(f"CREATE TABLE {target} ({columns})")
                cells = f"SELECT {', '.join(_cells(numbered))} FROM {_source(numbered)}"
                copied = f"INSERT INTO {target} {cells} ORDER BY round"
                rows = raw.execute(copied).rowcount
                raw.execute("COMMIT")
            finally:
                if raw.in_transaction:
                    raw.execute("ROLLBACK")
                raw.execute(f"DETACH {place}")
        return rows

    def _find_span(self, piece: Piece) -> tuple[int, int] | None:
        """The first and the last row number, where the rows are all that lie between them."""
        keys = piece.keys
        if (
            not isinstance(keys, StoredKeys)
            or piece.portion.keeps_left
            or not self._database.is_whole_number(keys)
        ):
            return None
        (cell, *_) = _cells(keys)
        first, last, rows = self._database.raw.execute(
            f"SELECT min({cell}), max({cell}), count(*) FROM {_source(keys)}"
        ).fetchone()
        return (first, last) if rows and last - first + 1 == rows else None

    def _send_keys(self, keys: StoredKeys, reader: sqlite3.Connection) -> None:
        """Give another connection a key table, every key with its type and bytes."""
        reader.execute(self._database.define_key_table(keys, unique=True))
        if self._database.is_whole_number(keys) and self._send_numbers(keys, reader):
            return
        cells = _cells(keys)
        into = f"temp.{keys.name} (round, {', '.join(cells)}) SELECT 0, *"
        self._send_rows(f"SELECT {', '.join(cells)} FROM {_source(keys)}", len(cells), into, reader)

    def _send_rows(self, query: str, width: int, into: str, reader: sqlite3.Connection) -> int:
        """Put the rows of a query into a table of another connection, every value with its type and
        bytes."""
        names = [f"v{place}" for place in range(width)]
        sent = ", ".join(f"? AS {name}, ? AS {name}_type" for name in names)
        slots = [
            f"CASE {name}_type WHEN 'text' THEN CAST({name} AS TEXT) ELSE {name} END"
            for name in names
        ]
        # Texts that are not UTF-8 travel as bytes, and arrive as the texts that they were.
        decode, self._database.raw.text_factory = self._database.raw.text_factory, bytes
        try:
            rows = self._database.raw.execute(
                f"WITH s ({', '.join(names)}) AS ({query}) SELECT "
                f"{', '.join(f'{name}, CAST(typeof({name}) AS BLOB)' for name in names)} FROM s"
            )
            return reader.executemany(
                f"INSERT INTO {into} FROM (SELECT {', '.join(slots)} FROM (SELECT {sent}))",
                (
                    [cell.decode() if place % 2 else cell for place, cell in enumerate(row)]
                    for row in rows
                ),
            ).rowcount
        finally:
            self._database.raw.text_factory = decode

    def _send_numbers(self, keys: StoredKeys, reader: sqlite3.Connection) -> bool:
        """Send keys that are all whole numbers, many at a time: as a range, else as JSON. Returns
        whether they are."""
        cells = _cells(keys)
        others = " OR ".join(f"typeof({cell}) <> 'integer'" for cell in cells[1:])
        if (
            others
            and self._database.raw.execute(
                f"SELECT 1 FROM {_source(keys)} WHERE {others} LIMIT 1"
            ).fetchone()
        ):
            return False
        alone = len(cells) == 1
        chunk = f"SELECT * FROM {_source(keys)} WHERE c0 >= ? ORDER BY c0 LIMIT {_KEYS_AT_ONCE}"
        places = [f"json_extract(value, '$[{place}]')" for place in range(len(cells))]
        into = f"INSERT INTO temp.{keys.name} (round, {', '.join(cells)}) SELECT 0,"
        taking = f"{into} {', '.join(places)} FROM json_each(?)"
        counting = "WITH RECURSIVE s (n) AS (SELECT ? UNION ALL SELECT n + 1 FROM s WHERE n < ?)"
        first = _SMALLEST
        while first < -_SMALLEST:
            start, last, rows = self._database.raw.execute(
                f"SELECT min(c0), max(c0), count(*) FROM ({chunk})", (first,)
            ).fetchone()
            if not rows:
                break
            if alone and last - start + 1 == rows:
                reader.execute(f"{counting} {into} n FROM s", (start, last))
            else:
                sending = f"SELECT json_group_array(json_array({', '.join(cells)})) FROM ({chunk})"
                reader.execute(taking, self._database.raw.execute(sending, (first,)).fetchone())
            first = last + 1
        return True

    def _copy_piece(
        self,
        piece: Piece,
        span: tuple[int, int] | None,
        sink: Sink,
        reader: sqlite3.Connection,
    ) -> int:
        portion, clause = piece.portion, self._statements.table(piece.portion.table)
        target, columns = _write_target(portion, sink)
        reader.execute(f"CREATE TABLE IF NOT EXISTS {target} ({columns})")
        cells = [clause.c[column] for column in portion.columns]
        rows = self._statements.select_copied(portion, piece.keys, cells)
        if span:
            number: sa.ColumnElement[int] = clause.c[piece.keys.table.identity[0]]
            rows = sa.select(*cells).where(number.between(*span))
        if portion.keeps_left:
            # In the same order, what each row is left with.
            keys = self._statements.key_columns(piece.keys, portion.table.identity)
            rows = rows.order_by(*keys)
            left = sa.select(*self._statements.new_columns(piece.keys, portion.changed)).order_by(
                *keys
            )
            other = f"yeldro_archive.yeldro_left_{portion.number}"
            reader.execute(
                f"CREATE TABLE {other} ({', '.join(f'l{n}' for n in range(len(portion.changed)))})"
            )
            self._copy(
                self._gate.writer.write(left),
                len(portion.changed),
                other,
                reader,
                later=piece.later,
            )
        query = self._gate.writer.write(rows)
        self._gate.note(f"INSERT INTO {target} {query}")
        done = self._copy(query, len(portion.columns), target, reader, later=piece.later)
        sink.tick(done)
        return done

    def _copy(
        self, query: str, width: int, target: str, reader: sqlite3.Connection, *, later: bool
    ) -> int:
        if later:
            return self._send_rows(query, width, f"{target} SELECT *", reader)
        return reader.execute(f"INSERT INTO {target} {query}").rowcount

    def _fill_stage(self, stage: Stage, source: Source) -> None:
        """The archive's own table, under a name of its own."""
        if source.path not in self._database.attached:
            self._database.attached[source.path] = next(self._names)
            uri = f"file:{quote(str(source.path.resolve()))}?mode=ro"
            self._gate.run(
                sa.text(f"ATTACH :uri AS {self._database.attached[source.path]}").bindparams(
                    uri=uri
                )
            )
        name, columns = source.shown(stage.portion)
        # The rows of a portion stand together in the archive, in the order in which they were
        # copied.
        first, last = source.place(stage.portion)
        place, portion = self._database.attached[source.path], stage.portion
        cells = [
            f"r.{_quoted(shown)} AS {_quoted(own)}"
            for shown, own in zip(columns, portion.columns, strict=True)
        ]
        rows = f"{place}.{_quoted(name)} AS r"
        if portion.keeps_left:
            cells += [
                f"l.l{at} AS {_quoted(portion.left(own))}" for at, own in enumerate(portion.changed)
            ]
            rows += (
                f" JOIN {place}.yeldro_left_{portion.number} AS l ON l._rowid_ = r._rowid_ - "
                f"{first - 1}"
            )
        self._database.raw.execute(
            f"CREATE TEMP VIEW {stage.name} AS SELECT {', '.join(cells)} FROM {rows} WHERE "
            f"r._rowid_ BETWEEN {first} AND {last}"
        )

    def _stage_parents(self, reference: Reference, stage: Stage) -> sa.FromClause:
        """What is staged is a view, with no affinity and no index of its own."""
        keys = StoredKeys(stage.table, reference.referred, next(self._names))
        self._gate.run_text(self._database.define_key_table(keys, unique=False))
        staged, typed = self._statements.staged(stage), self._statements.key_table(keys)
        rows = sa.select(*(staged.c[name] for name in reference.referred), sa.literal_column("0"))
        names = [f"c{place}" for place in range(len(reference.referred))]
        self._gate.run(sa.insert(typed).from_select([*names, "round"], rows))
        self._gate.run_text(f"CREATE INDEX temp.{keys.name}_by ON {keys.name} ({', '.join(names)})")
        return sa.select(
            *(typed.c[c].label(name) for c, name in zip(names, reference.referred, strict=True))
        ).subquery()

    def keep_absent(self, stage: Stage) -> None:
        self._keep(stage, sa.not_(self._statements.is_there(stage)))

    def keep_staged(self, stage: Stage, listed: StoredKeys) -> None:
        self._keep(stage, self._statements.is_listed(stage, listed))

    def drop_stage(self, stage: Stage) -> None:
        kind = self._gate.run_text(
            f"SELECT type FROM temp.sqlite_master WHERE name = '{stage.name}'"
        ).scalar_one()
        self._gate.run_text(f"DROP {kind} temp.{stage.name}")

    def _keep(self, stage: Stage, which: sa.ColumnElement[bool]) -> None:
        """A view cannot lose rows: from now on a table stands for it."""
        staged = self._statements.staged(stage)
        other = next(self._names)
        rows = sa.select(*staged.c).where(which)
        self._gate.run(Words(f"CREATE TEMP TABLE {other} AS", bare(rows)))
        self.drop_stage(stage)
        self._gate.run_text(f"ALTER TABLE temp.{other} RENAME TO {stage.name}")

    def find_form(self, column: Column) -> Form:
        return Form("as stored")

    def insert_together(self, stages: Sequence[Stage]) -> list[int]:
        self._gate.run_text("PRAGMA defer_foreign_keys = ON", Kind.PLAIN)
        return [self.insert(stage) for stage in stages]

    def allow_orphans(self) -> None:
        self._gate.run_text("PRAGMA foreign_keys = OFF")


def _source(keys: StoredKeys) -> str:
    """What the keys are read from."""
    if not isinstance(keys, KeyRange):
        return f"temp.{keys.name}"
    rows = f"round BETWEEN {keys.first} AND {keys.last}"
    return f"(SELECT * FROM temp.{keys.numbered.name} WHERE {rows})"


def _as_sent(keys: KeySet) -> KeySet:
    """The same for the other connection, which has a table of its own for a range."""
    if isinstance(keys, DependentRows):
        parents = _as_sent(keys.parents)
        return keys if parents is keys.parents else replace(keys, parents=parents)
    return StoredKeys(keys.table, keys.columns, keys.name) if isinstance(keys, KeyRange) else keys


def _cells(keys: StoredKeys) -> list[str]:
    return [
        *(f"c{place}" for place in range(len(keys.columns))),
        *(f"n{place}" for place in range(len(keys.new))),
    ]


def _write_target(portion: Portion, sink: Sink, place: str = "yeldro_archive") -> tuple[str, str]:
    """The table of the archive that takes a portion, and its columns."""
    name, columns = sink.shown(portion)
    return f"{place}.{_quoted(name)}", ", ".join(map(_quoted, columns))


def _quoted(name: str) -> str:
    return '"' + name.replace('"', '""') + '"'
