"""SQLite: an embedded database in one file."""

from __future__ import annotations

import sqlite3
from collections.abc import Sequence
from contextlib import closing
from datetime import date, datetime
from decimal import Decimal
from pathlib import Path
from typing import Any
from urllib.parse import quote

import sqlalchemy as sa

from yeldro.core.archive import ELSEWHERE, Form, Piece, Sink, Source, Stage
from yeldro.core.database import Abilities, Changes, Effect, KeySet, Mode, Quirk
from yeldro.core.ranking import Grouping, Ranking, Same
from yeldro.core.schema import Column, OnDelete, Reference, Table
from yeldro.core.spelling import make_plain
from yeldro.core.values import Value
from yeldro.engines.base import SqlDatabase, did_not_commit
from yeldro.engines.gate import Gate
from yeldro.engines.sqlite_catalogue import affinity, read_schema
from yeldro.engines.staging import StageStatements
from yeldro.engines.statements import Columns, Rows, Words, as_tuple, bare, in_brackets
from yeldro.errors import ArchiveFailed, BadStatement, DatabaseFailed, Interrupted, YeldroError

_KEYS_AT_ONCE = 20_000
# A Python callback now and then, after so many steps of SQLite's machine, lets Ctrl-C end a long statement.
_LISTEN = 200_000
_SMALLEST = -(2**63)
# https://www.sqlite.org/c3ref/c_alter_table.html: what an authorizer sees when a statement is prepared.
_VERBS = {
    sqlite3.SQLITE_INSERT: "insert",
    sqlite3.SQLITE_UPDATE: "update",
    sqlite3.SQLITE_DELETE: "delete",
}
_OTHER_CHANGES = {
    getattr(sqlite3, f"SQLITE_{verb}_{kind}")
    for verb in ("CREATE", "DROP")
    for kind in ("INDEX", "TABLE", "TRIGGER", "VIEW")
} | {sqlite3.SQLITE_ALTER_TABLE, sqlite3.SQLITE_ATTACH, sqlite3.SQLITE_DETACH, sqlite3.SQLITE_REINDEX}


def open_sqlite(path: Path, mode: Mode, wait: float) -> SqliteDatabase:
    """Open an existing file. With Mode.READ the connection itself is read-only. `wait` is in seconds.

    DatabaseFailed where there is no such file, or where it is no database.
    """
    if not path.exists():
        raise DatabaseFailed(f"There is no database file {path}.", "Check the path; no file was made.")
    if path.is_dir():
        raise DatabaseFailed(f"{path} is a folder, not a database file.")
    uri = f"file:{quote(str(path.resolve()))}?mode={'ro' if mode is Mode.READ else 'rw'}"
    engine = sa.create_engine(
        "sqlite://",
        creator=lambda: sqlite3.connect(uri, uri=True, timeout=wait, check_same_thread=False),
        poolclass=sa.pool.NullPool,
        isolation_level="AUTOCOMMIT",
    )
    try:
        return SqliteDatabase(engine, path)
    except sa.exc.DBAPIError as error:
        raise _translate(error.orig or error) from error


class SqliteDatabase(SqlDatabase):
    """A connection to one file."""

    dialect = "sqlite"
    # Other rules act row by row, in the order in which one statement happens to delete
    # (https://www.sqlite.org/foreignkeys.html, section 4.3); RESTRICT waits like NO ACTION once checks are deferred.
    abilities = Abilities(
        tree_rules=frozenset({OnDelete.NO_ACTION, OnDelete.RESTRICT}),
        circle_rules=frozenset({OnDelete.NO_ACTION, OnDelete.RESTRICT, OnDelete.CASCADE}),
        truncates="SQLite has no TRUNCATE: this is a DELETE of all rows. It can be rolled back, and triggers run.",
        quirks=frozenset({Quirk.UNTYPED, Quirk.QUOTED_TEXTS, Quirk.BLIND_LIKE}),
    )

    def __init__(self, engine: sa.Engine, path: Path) -> None:
        connection = engine.connect()
        raw = connection.connection.driver_connection
        assert isinstance(raw, sqlite3.Connection)
        self._raw = raw
        self._uri = f"file:{quote(str(path.resolve()))}?mode=rw"
        self._attached: dict[Path, str] = {}
        raw.set_progress_handler(lambda: 0, _LISTEN)
        gate = Gate(connection, _translate, lambda: raw.in_transaction)
        super().__init__(str(path), gate, SqliteStatements())
        try:
            self._pin_settings()
            self.schema = read_schema(self._gate)
            self.encoding = str(self._gate.run_text("PRAGMA encoding").scalar_one())
            raw.text_factory = lambda data: data.decode("utf-8", "replace")
        except BaseException:
            self.close()
            raise

    def _pin_settings(self) -> None:
        self._gate.run_text("PRAGMA foreign_keys = ON")
        if self._gate.run_text("PRAGMA foreign_keys").scalar_one() != 1:
            raise DatabaseFailed("Foreign keys cannot be enforced in this build of SQLite.")
        self._gate.run_text("PRAGMA recursive_triggers = OFF")

    def _begin(self, mode: Mode, alone: Table | None) -> None:
        if mode is Mode.READ:
            self._gate.run_text("BEGIN")
            self._raw.set_authorizer(_deny_changes)
        else:
            self._gate.run_text("BEGIN IMMEDIATE")

    def _commit(self) -> None:
        self._raw.set_authorizer(None)
        self._gate.run_text("COMMIT")
        if self._raw.in_transaction:
            raise did_not_commit()

    def _rollback(self) -> None:
        self._raw.set_authorizer(None)
        if self._raw.in_transaction:
            self._gate.run_text("ROLLBACK")

    def prepare_key_sets(self, tables: Sequence[Table], new: Sequence[str] = ()) -> None:
        """Temporary tables can be made at any time."""

    def _create_key_table(self, keys: KeySet, *, unique: bool = True) -> None:
        self._gate.run_text(self._define_key_table(keys, unique=unique))

    def _define_key_table(self, keys: KeySet, *, unique: bool) -> str:
        table = keys.table
        definitions = [f"c{place}{self._definition(table, name)}" for place, name in enumerate(keys.columns)]
        new = [f"n{place}{self._definition(table, name)}" for place, name in enumerate(keys.new)]
        whole_number = unique and self._is_whole_number(keys)
        if whole_number:
            definitions[0] += " PRIMARY KEY"
        elif unique:
            places = ", ".join(f"c{place}" for place in range(len(table.identity)))
            definitions.append(f"PRIMARY KEY ({places})")
        columns = ", ".join(["round INTEGER NOT NULL", *new, *definitions])
        return f"CREATE TEMP TABLE {keys.name} ({columns}){' WITHOUT ROWID' if unique and not whole_number else ''}"

    def _is_whole_number(self, keys: KeySet) -> bool:
        identity = keys.table.identity
        return len(identity) == 1 and self._definition(keys.table, identity[0]) == " INTEGER"

    def _definition(self, table: Table, name: str) -> str:
        """The same affinity and collation as the column, so that values compare as they do in the table."""
        if name not in table.column_names:
            return " INTEGER"
        column = table.column(name)
        kind = affinity(column.type)
        collation = f' COLLATE "{column.collation}"' if column.collation else ""
        return f"{'' if kind == 'BLOB' else ' ' + kind}{collation}"

    def _make_ranking_table(self, name: str, empty: Rows) -> None:
        """In the order in which it is filled."""
        cells = [cell.name for cell in empty.selected_columns]
        key = "PRIMARY KEY (grp, place)) WITHOUT ROWID"
        self._gate.run_text(f"CREATE TEMP TABLE {name} ({', '.join(cells)}, {key}")
        # Called for the first time it would look like a change to the authorizer of a read-only transaction.
        self._gate.run_text("SELECT count(*) FROM json_each('[]')")

    def _gathers(self, table: Table) -> bool:
        return self._is_whole_number(KeySet(table, table.identity, ""))

    def _members(self, ranking: Ranking) -> tuple[sa.FromClause, list[sa.ColumnElement[Any]]]:
        groups = self._gathered(ranking, sa.func.json_group_array)
        members = sa.func.json_each(groups.c.ids).table_valued("value", name="yeldro_members")
        return groups.join(members, sa.true()), [members.c.value, groups.c.grp, groups.c.size]

    def _may_merge(self, table: Table, column: str) -> bool:
        return (table.column(column).collation or "BINARY") != "BINARY"

    def _make_plain(self, grouping: Grouping, same: Same) -> str:
        """SQLite calls a function of ours."""
        name = f"yeldro_plain_{'_'.join(sorted(same.ignored))}"

        def plain(value: Any) -> Any:
            return make_plain(value, same.ignored) if isinstance(value, str) else value

        self._raw.create_function(name, 1, plain, deterministic=True)
        return name

    def _plain_text(
        self, grouping: Grouping, same: Same, cell: sa.ColumnElement[Any], name: str
    ) -> sa.ColumnElement[Any]:
        plain: sa.ColumnElement[Any] = getattr(sa.func, name)(cell)
        return self._statements.sorted_as(plain, grouping.table.column(same.column)) if same.column else plain

    def _fill(self, into: KeySet, statement: sa.Insert) -> int:
        """The driver's own count is -1 for a statement that begins with WITH."""
        before = self._raw.total_changes
        super()._fill(into, statement)
        return self._raw.total_changes - before

    def find_effects(self, table: Table, columns: Sequence[str] | None, event: str = "delete") -> tuple[Effect, ...]:
        """SQLite tells an authorizer what a statement, its triggers included, would write when it is prepared."""
        seen: dict[tuple[str, str, str], None] = {}

        def note(action: int, name: str | None, _: str | None, place: str | None, trigger: str | None) -> int:
            if action in _VERBS and place == "main" and trigger is not None and name is not None:
                seen[name, _VERBS[action], trigger] = None
            return sqlite3.SQLITE_OK

        clause = self._statements.table(table)
        change: sa.Delete | sa.Update | Words = sa.delete(clause)
        if event == "insert":
            change = Words("INSERT INTO", clause, "DEFAULT VALUES")
        if columns is not None:
            change = sa.update(clause).values({clause.c[name]: sa.null() for name in columns})
        self._raw.set_authorizer(note)
        try:
            self._gate.run_text(f"EXPLAIN {change.compile(dialect=self._gate.connection.dialect)}")
        finally:
            self._raw.set_authorizer(None)
        by_name = {known.name.name.lower(): known for known in self.schema.tables}
        return tuple(Effect(by_name[name.lower()], verb, trigger) for name, verb, trigger in seen)

    def find_changes(self) -> Changes:
        return Changes(self._raw.total_changes)

    def delete(self, keys: KeySet) -> int:
        outgoing = self.schema.outgoing(keys.table)
        if any(reference.is_self and reference.on_delete is OnDelete.RESTRICT for reference in outgoing):
            self._gate.run_text("PRAGMA defer_foreign_keys = ON")
        # Rows that could not be pointed at themselves, because they have NULL where they would be pointed at: nothing
        # hangs on them, so they go first.
        clause = self._statements.table(keys.table)
        empty = [
            clause.c[name].is_(None) for reference in outgoing if _is_rigid(reference) for name in reference.referred
        ]
        done = self._gate.run(self._statements.delete(keys).where(sa.or_(*empty))).rowcount if empty else 0
        return done + super().delete(keys)

    def _change(
        self, images: KeySet, values: dict[str, sa.ColumnElement[Any]], only: Sequence[sa.ColumnElement[bool]]
    ) -> int:
        """One look into the key table for each row, whatever the planner believes of temporary tables."""
        clause = self._statements.table(images.table)
        own = self._is_own(images)
        new = {clause.c[name]: sa.select(value).where(own).scalar_subquery() for name, value in values.items()}
        keys = self._statements.key_columns(images, images.table.identity)
        among = as_tuple([clause.c[name] for name in images.table.identity]).in_(sa.select(*keys).where(*only))
        return self._gate.run(sa.update(clause).values(new).where(among)).rowcount

    def truncate(self, table: Table) -> int:
        return self._gate.run(sa.delete(self._statements.table(table))).rowcount

    def build_index(self, reference: Reference) -> None:
        self._build_index(reference)

    def find_form(self, column: Column) -> Form:
        return Form("as stored")

    def extract(self, pieces: Sequence[Piece], sink: Sink) -> list[int]:
        """Copy inside SQLite, over a second connection, so that the archive is committed before the database is.

        It sees what this one saw when it began, because nobody else can write until it ends.
        """
        with closing(sqlite3.connect(self._uri, uri=True, isolation_level=None)) as reader:
            reader.set_progress_handler(lambda: 0, _LISTEN)
            try:
                reader.execute("ATTACH ? AS yeldro_archive", (str(sink.path),))
                reader.execute("PRAGMA yeldro_archive.synchronous = FULL")
                reader.execute("BEGIN")
                stored = dict.fromkeys(piece.keys.hangs[1] if piece.keys.hangs else piece.keys for piece in pieces)
                for keys in stored:
                    if not keys.whole:
                        self._send_keys(keys, reader)
                reader.set_authorizer(_deny_changes_of_main)
                counts = [self._copy_piece(piece, sink, reader) for piece in pieces]
                reader.execute("COMMIT")
            except sqlite3.Error as error:
                code = getattr(error, "sqlite_errorcode", 0) & 0xFF
                if code == sqlite3.SQLITE_INTERRUPT:
                    raise _translate(error) from error
                what = "the disk is full" if code == sqlite3.SQLITE_FULL else str(error)
                raise ArchiveFailed(f"The archive {sink.path} failed: {what}.", ELSEWHERE) from error
        return counts

    def _send_keys(self, keys: KeySet, reader: sqlite3.Connection) -> None:
        """Give another connection a key table, every key with its type and bytes."""
        reader.execute(self._define_key_table(keys, unique=True))
        if self._is_whole_number(keys) and self._send_numbers(keys, reader):
            return
        cells = _cells(keys)
        slots = [
            f"CASE ?{2 * place + 2} WHEN 'text' THEN CAST(?{2 * place + 1} AS TEXT) ELSE ?{2 * place + 1} END"
            for place in range(len(cells))
        ]
        decode, self._raw.text_factory = self._raw.text_factory, bytes
        try:
            rows = self._raw.execute(
                f"SELECT {', '.join(f'{cell}, CAST(typeof({cell}) AS BLOB)' for cell in cells)} FROM temp.{keys.name}"
            )
            reader.executemany(
                f"INSERT INTO temp.{keys.name} (round, {', '.join(cells)}) VALUES (0, {', '.join(slots)})",
                ([cell.decode() if place % 2 else cell for place, cell in enumerate(row)] for row in rows),
            )
        finally:
            self._raw.text_factory = decode

    def _send_numbers(self, keys: KeySet, reader: sqlite3.Connection) -> bool:
        """Send keys that are all whole numbers, many at a time: as a range, else as JSON. Returns whether they are."""
        cells = _cells(keys)
        others = " OR ".join(f"typeof({cell}) <> 'integer'" for cell in cells[1:])
        if others and self._raw.execute(f"SELECT 1 FROM temp.{keys.name} WHERE {others} LIMIT 1").fetchone():
            return False
        alone = len(cells) == 1
        chunk = f"SELECT * FROM temp.{keys.name} WHERE c0 >= ? ORDER BY c0 LIMIT {_KEYS_AT_ONCE}"
        places = [f"json_extract(value, '$[{place}]')" for place in range(len(cells))]
        into = f"INSERT INTO temp.{keys.name} (round, {', '.join(cells)})"
        taking = f"{into} SELECT 0, {', '.join(places)} FROM json_each(?)"
        counting = "WITH RECURSIVE s (n) AS (SELECT ?1 UNION ALL SELECT n + 1 FROM s WHERE n < ?2)"
        first = _SMALLEST
        while first < -_SMALLEST:
            start, last, rows = self._raw.execute(
                f"SELECT min(c0), max(c0), count(*) FROM ({chunk})", (first,)
            ).fetchone()
            if not rows:
                break
            if alone and last - start + 1 == rows:
                reader.execute(f"{counting} {into} SELECT 0, n FROM s", (start, last))
            else:
                sending = f"SELECT json_group_array(json_array({', '.join(cells)})) FROM ({chunk})"
                reader.execute(taking, self._raw.execute(sending, (first,)).fetchone())
            first = last + 1
        return True

    def _copy_piece(self, piece: Piece, sink: Sink, reader: sqlite3.Connection) -> int:
        portion, clause = piece.portion, self._statements.table(piece.portion.table)
        name, columns = sink.shown(portion)
        target = f"yeldro_archive.{_quoted(name)}"
        reader.execute(f"CREATE TABLE IF NOT EXISTS {target} ({', '.join(map(_quoted, columns))})")
        cells = [clause.c[column] for column in portion.columns]
        rows = self._statements.select_copied(portion, piece.keys, cells)
        if portion.keeps_left:
            # In the same order, what each row is left with.
            keys = self._statements.key_columns(piece.keys, portion.table.identity)
            rows = rows.order_by(*keys)
            left = sa.select(*self._statements.new_columns(piece.keys, portion.changed)).order_by(*keys)
            other = f"yeldro_archive.yeldro_left_{portion.number}"
            reader.execute(f"CREATE TABLE {other} ({', '.join(f'l{n}' for n in range(len(portion.changed)))})")
            reader.execute(f"INSERT INTO {other} {self._compile(left)}")
        query = self._compile(rows)
        self._gate.note(f"INSERT INTO {target} {query}")
        done = reader.execute(f"INSERT INTO {target} {query}").rowcount
        sink.tick(done)
        return done

    def _fill_stage(self, stage: Stage, source: Source) -> None:
        """The archive's own table, under a name of its own."""
        if source.path not in self._attached:
            self._attached[source.path] = next(self._names)
            uri = f"file:{quote(str(source.path.resolve()))}?mode=ro"
            self._gate.run(sa.text(f"ATTACH :uri AS {self._attached[source.path]}").bindparams(uri=uri))
        name, columns = source.shown(stage.portion)
        first, last = source.place(stage.portion)
        place, portion = self._attached[source.path], stage.portion
        cells = [f"r.{_quoted(shown)} AS {_quoted(own)}" for shown, own in zip(columns, portion.columns, strict=True)]
        rows = f"{place}.{_quoted(name)} AS r"
        if portion.keeps_left:
            cells += [f"l.l{at} AS {_quoted(portion.left(own))}" for at, own in enumerate(portion.changed)]
            rows += f" JOIN {place}.yeldro_left_{portion.number} AS l ON l._rowid_ = r._rowid_ - {first - 1}"
        self._raw.execute(
            f"CREATE TEMP VIEW {stage.name} AS SELECT {', '.join(cells)} FROM {rows}"
            f" WHERE r._rowid_ BETWEEN {first} AND {last}"
        )

    def keep_absent(self, stage: Stage) -> None:
        self._keep(stage, sa.not_(self._statements.is_there(stage)))

    def keep_staged(self, stage: Stage, listed: KeySet) -> None:
        self._keep(stage, self._statements.is_listed(stage, listed))

    def _keep(self, stage: Stage, which: sa.ColumnElement[bool]) -> None:
        """A view cannot lose rows: from now on a table stands for it."""
        staged = self._statements.staged(stage)
        other = next(self._names)
        rows = sa.select(*staged.c).where(which)
        self._gate.run(Words(f"CREATE TEMP TABLE {other} AS", bare(rows)))
        kind = self._gate.run_text(f"SELECT type FROM temp.sqlite_master WHERE name = '{stage.name}'").scalar_one()
        self._gate.run_text(f"DROP {kind} temp.{stage.name}")
        self._gate.run_text(f"ALTER TABLE temp.{other} RENAME TO {stage.name}")

    def insert_together(self, stages: Sequence[Stage]) -> list[int]:
        self._gate.run_text("PRAGMA defer_foreign_keys = ON")
        return [self.insert(stage) for stage in stages]

    def allow_orphans(self) -> None:
        self._gate.run_text("PRAGMA foreign_keys = OFF")

    def delete_together(self, key_sets: Sequence[KeySet]) -> int:
        """The checks wait for the commit; cascades inside the circle may run ahead, so the total is what counts."""
        self._gate.run_text("PRAGMA defer_foreign_keys = ON")
        before = self._raw.total_changes
        for keys in key_sets:
            self.delete(keys)
        return self._raw.total_changes - before


def _cells(keys: KeySet) -> list[str]:
    return [*(f"c{place}" for place in range(len(keys.columns))), *(f"n{place}" for place in range(len(keys.new)))]


def _plain(cell: sa.ColumnElement[Any]) -> sa.ColumnElement[Any]:
    """A value without the affinity of its column."""
    return sa.sql.elements.UnaryExpression(cell, operator=sa.sql.operators.custom_op("+"), type_=cell.type)


def _quoted(name: str) -> str:
    return '"' + name.replace('"', '""') + '"'


class SqliteStatements(StageStatements):
    def __init__(self) -> None:
        super().__init__("temp", adapt)

    def exact(self, column: sa.ColumnElement[Any]) -> sa.ColumnElement[Any]:
        return sa.collate(column, "BINARY")

    def sorted_as(self, cell: sa.ColumnElement[Any], column: Column) -> sa.ColumnElement[Any]:
        return sa.collate(cell, column.collation or "BINARY")

    def build_index(self, index: sa.TableClause, table: Table, cells: Columns, *, unique: bool = False) -> Words:
        """Here the index names the schema, and the table must not."""
        verb = f"CREATE {'UNIQUE ' if unique else ''}INDEX"
        return Words(verb, index, "ON", sa.table(table.name.name), in_brackets(cells))

    def is_same(
        self, table: Table, names: Sequence[str], own: sa.FromClause, other: sa.FromClause
    ) -> sa.ColumnElement[bool]:
        """Compared without affinity, values of two types differ; only an integer and a real number may be equal, and
        these stand side by side only in a column without affinity."""
        parts: list[sa.ColumnElement[bool]] = []
        for name in names:
            one, two = own.c[name], other.c[name]
            parts.append(_plain(one).is_not_distinct_from(sa.collate(_plain(two), "BINARY")))
            if affinity(table.column(name).type) == "BLOB":
                parts.append(sa.func.typeof(one) == sa.func.typeof(two))
        return sa.and_(*parts)

    def image(self, table: Table, names: Sequence[str], clause: sa.FromClause) -> sa.ColumnElement[str]:
        """hex() would cut the digits of a real number."""
        parts: list[sa.ColumnElement[Any]] = []
        for name in names:
            cell = clause.c[name]
            real = sa.func.printf(sa.literal_column("'%!.17g'"), cell)
            plain = sa.case((sa.func.typeof(cell) == sa.literal_column("'real'"), real), else_=sa.func.hex(cell))
            parts += [sa.func.typeof(cell), plain, sa.literal_column("','")]
        image = parts[0]
        for part in parts[1:]:
            image = image.op("||")(part)
        return image

    def looked_up(self, cell: sa.ColumnElement[Any]) -> sa.ColumnElement[Any]:
        """A unary plus keeps SQLite from building an index on the stage (https://www.sqlite.org/optoverview.html)."""
        return _plain(cell)

    def insert_staged(self, stage: Stage) -> sa.Insert:
        """A table may ask to replace what is in the way: here it may not."""
        statement = super().insert_staged(stage)
        assert isinstance(statement, sa.Insert)
        return statement.prefix_with("OR ABORT")

    def lacks_identity(self, keys: KeySet) -> sa.ColumnElement[bool]:
        """NOT IN is several times faster here than NOT EXISTS, and identities hold no NULL."""
        return sa.not_(self.has_identity(keys))

    def pointing(self, reference: Reference, rows: sa.FromClause | None = None) -> list[sa.ColumnElement[Any]]:
        """SQLite compares with the collation of the referred column (https://www.sqlite.org/foreignkeys.html, 3)."""
        columns = super().pointing(reference, rows)
        for place, referred in enumerate(reference.referred):
            there = reference.parent.column(referred)
            if affinity(there.type) in ("TEXT", "BLOB"):
                columns[place] = sa.collate(columns[place], there.collation or "BINARY")
        return columns


def _is_rigid(reference: Reference) -> bool:
    """Whether it is a self-reference without a column that may be NULL, to a column that may."""
    referred = [reference.parent.column(name) for name in reference.referred]
    return reference.is_self and not reference.nullable_columns and any(column.nullable for column in referred)


def adapt(value: Value) -> Any:
    """A value in one of SQLite's own types: days and moments as ISO 8601 texts, truth as 0 or 1."""
    match value:
        case bool():
            return int(value)
        case datetime():
            return value.isoformat(" ")
        case date():
            return value.isoformat()
        case Decimal():
            return int(value) if value == value.to_integral_value() else float(value)
        case _:
            return value


def _deny_changes_of_main(action: int, _: str | None, __: str | None, place: str | None, ___: str | None) -> int:
    return sqlite3.SQLITE_DENY if action in _VERBS and place == "main" else sqlite3.SQLITE_OK


def _deny_changes(action: int, _: str | None, __: str | None, place: str | None, ___: str | None) -> int:
    changes = action in _VERBS or action in _OTHER_CHANGES
    return sqlite3.SQLITE_DENY if changes and place != "temp" else sqlite3.SQLITE_OK


def _translate(error: BaseException) -> YeldroError:
    """Map an error by SQLite's result code (https://www.sqlite.org/rescode.html)."""
    code = getattr(error, "sqlite_errorcode", 0) & 0xFF
    text = str(error)
    match code:
        case sqlite3.SQLITE_INTERRUPT:
            return Interrupted("Interrupted.")
        case sqlite3.SQLITE_BUSY | sqlite3.SQLITE_LOCKED:
            return DatabaseFailed(
                "The database is locked by another program.",
                "Nothing was changed. Try again, or let --wait be longer.",
            )
        case sqlite3.SQLITE_READONLY:
            return DatabaseFailed("The database file is read-only.", "Nothing was changed.")
        case sqlite3.SQLITE_NOTADB:
            return DatabaseFailed("The file is not an SQLite database.", "Nothing was changed.")
        case sqlite3.SQLITE_CORRUPT:
            return DatabaseFailed("The database file is damaged.", "Nothing was changed.")
        case sqlite3.SQLITE_CANTOPEN:
            return DatabaseFailed("The database file cannot be opened.", "Check its path and its permissions.")
        case sqlite3.SQLITE_FULL:
            return DatabaseFailed("The disk is full.", "Nothing was changed.")
        case sqlite3.SQLITE_ERROR:
            return BadStatement(text)
        case _:
            return DatabaseFailed(f"The database refused: {text}.", "Nothing was changed.")
