"""SQLite: an embedded database in one file."""

from __future__ import annotations

import itertools
import secrets
import sqlite3
from collections.abc import Iterator, Sequence
from datetime import date, datetime
from decimal import Decimal
from pathlib import Path
from typing import Any
from urllib.parse import quote

import sqlalchemy as sa

from yeldro.core.database import Abilities, ColumnProfile, Effect, KeySet, Mode, Row
from yeldro.core.schema import OnDelete, Reference, Schema, Table
from yeldro.core.selection import Selection
from yeldro.core.values import Value
from yeldro.engines.gate import Gate
from yeldro.engines.sqlite_catalogue import affinity, read_schema
from yeldro.engines.statements import Statements
from yeldro.errors import BadStatement, DatabaseFailed, Interrupted, UsageError, YeldroError

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


class SqliteDatabase:
    """A connection to one file. Fulfils `core.database.Database`."""

    dialect = "sqlite"
    # Other rules act row by row, in the order in which one statement happens to delete
    # (https://www.sqlite.org/foreignkeys.html, section 4.3); RESTRICT waits like NO ACTION once checks are deferred.
    abilities = Abilities(frozenset({OnDelete.NO_ACTION, OnDelete.RESTRICT}), can_defer=True)

    def __init__(self, engine: sa.Engine, path: Path) -> None:
        self._connection = engine.connect()
        self.name = str(path)
        raw = self._connection.connection.driver_connection
        assert isinstance(raw, sqlite3.Connection)
        self._raw = raw
        raw.text_factory = lambda data: data.decode("utf-8", "replace")
        # A Python callback now and then lets Ctrl-C end a long statement.
        raw.set_progress_handler(lambda: 0, 200_000)
        self._gate = Gate(self._connection, _translate, lambda: raw.in_transaction)
        self._statements = SqliteStatements()
        self._names = (f"yeldro_{secrets.token_hex(3)}_{number}" for number in itertools.count(1))
        try:
            self._pin_settings()
            self.schema: Schema = read_schema(self._gate)
        except BaseException:
            self.close()
            raise

    def _pin_settings(self) -> None:
        self._gate.run_text("PRAGMA foreign_keys = ON")
        if self._gate.run_text("PRAGMA foreign_keys").scalar_one() != 1:
            raise DatabaseFailed("Foreign keys cannot be enforced in this build of SQLite.")
        self._gate.run_text("PRAGMA recursive_triggers = OFF")

    def close(self) -> None:
        self._connection.close()

    # Transactions

    def begin(self, mode: Mode) -> None:
        if mode is Mode.READ:
            self._gate.run_text("BEGIN")
            self._raw.set_authorizer(_deny_changes)
        else:
            self._gate.run_text("BEGIN IMMEDIATE")
        self._gate.in_transaction = True

    def commit(self) -> None:
        self._raw.set_authorizer(None)
        self._gate.in_transaction = False
        try:
            self._gate.run_text("COMMIT")
        except YeldroError:
            self.rollback()
            raise
        if self._raw.in_transaction:
            self.rollback()
            raise DatabaseFailed("The database did not commit.", "Nothing was changed.")

    def rollback(self) -> None:
        self._raw.set_authorizer(None)
        self._gate.in_transaction = False
        if self._raw.in_transaction:
            self._gate.run_text("ROLLBACK")

    def defer_references(self) -> None:
        self._gate.run_text("PRAGMA defer_foreign_keys = ON")

    # Looking

    def count_rows(self, table: Table) -> int:
        return self._gate.number(self._statements.count(table))

    def profile(self, table: Table) -> list[ColumnProfile]:
        row = tuple(self._gate.run(self._statements.profile(table)).one())
        rows, cells = row[0], row[1:]
        parts = [cells[place : place + 4] for place in range(0, len(cells), 4)]
        return [ColumnProfile(rows - filled, distinct, low, high) for filled, distinct, low, high in parts]

    def count_distinct(self, table: Table, columns: Sequence[str]) -> int:
        return self._gate.number(self._statements.count_distinct(table, columns))

    def first_rows(self, table: Table, limit: int) -> list[Row]:
        return [tuple(row) for row in self._gate.run(self._statements.first(table, limit))]

    def sample(self, keys: KeySet, columns: Sequence[str], limit: int | None) -> Iterator[Row]:
        return self._gate.stream(self._statements.sample(keys, columns, limit))

    def missing_keys(self, selection: Selection) -> list[Row]:
        table = selection.table
        return [key for key in selection.keys if not self._gate.number(self._statements.find_key(table, key))]

    # Key sets

    def make_key_set(self, table: Table) -> KeySet:
        carried = tuple(dict.fromkeys((*table.identity, *self.schema.referred_columns(table))))
        keys = KeySet(table, carried, next(self._names))
        definitions = [self._definition(table, name, place) for place, name in enumerate(carried)]
        whole_number = len(table.identity) == 1 and definitions[0] == "c0 INTEGER"
        if whole_number:
            definitions[0] += " PRIMARY KEY"
        else:
            places = ", ".join(f"c{place}" for place in range(len(table.identity)))
            definitions.append(f"PRIMARY KEY ({places})")
        columns = ", ".join(["round INTEGER NOT NULL", *definitions])
        self._gate.run_text(f"CREATE TEMP TABLE {keys.name} ({columns}){'' if whole_number else ' WITHOUT ROWID'}")
        return keys

    def _definition(self, table: Table, name: str, place: int) -> str:
        """The same affinity and collation as the column, so that values compare as they do in the table."""
        if name not in table.column_names:
            return f"c{place} INTEGER"
        column = table.column(name)
        kind = affinity(column.type)
        collation = f' COLLATE "{column.collation}"' if column.collation else ""
        return f"c{place}{'' if kind == 'BLOB' else ' ' + kind}{collation}"

    def match(self, selection: Selection, into: KeySet) -> int:
        try:
            return self._fill(self._statements.match(selection, into))
        except BadStatement as error:
            raise UsageError(
                f"The database cannot run the condition: {error.message}",
                "; ".join(c.text for c in selection.conditions),
            ) from error

    def pull(
        self,
        reference: Reference,
        parents: KeySet,
        into: KeySet,
        *,
        round: int = 0,
        since: int | None = None,
        without: Sequence[KeySet] = (),
    ) -> int:
        return self._fill(self._statements.pull(reference, parents, into, round, since, without))

    def close_over(self, reference: Reference, keys: KeySet, *, round: int = 0) -> int:
        return self._fill(self._statements.close_over(reference, keys, round))

    def _fill(self, statement: sa.Insert) -> int:
        before = self._raw.total_changes
        self._gate.run(statement)
        return self._raw.total_changes - before

    def count_referencing(self, reference: Reference, parents: KeySet, without: KeySet | None) -> int:
        return self._gate.number(self._statements.count_referencing(reference, parents, without))

    def has_referencing(self, reference: Reference, parents: KeySet) -> bool:
        return self._gate.run(self._statements.has_referencing(reference, parents)).first() is not None

    def default_has_parent(self, reference: Reference, gone: KeySet | None) -> bool:
        defaults = _defaults(reference.child, reference.columns)
        if any(self._gate.run(sa.select(sa.literal_column(text))).scalar_one() is None for text in defaults):
            return True
        return self._gate.number(self._statements.default_parent(reference, defaults, gone)) > 0

    def count_union(self, key_sets: Sequence[KeySet]) -> int:
        return self._gate.number(self._statements.count_union(key_sets))

    def compare(self, old: KeySet, new: KeySet) -> tuple[int, int]:
        came = self._gate.number(self._statements.count_only_in(new, old))
        return came, self._gate.number(self._statements.count_only_in(old, new))

    # Changing

    def find_effects(self, table: Table, columns: Sequence[str] | None) -> tuple[Effect, ...]:
        """SQLite tells an authorizer what a statement, its triggers included, would write when it is prepared."""
        seen: dict[tuple[str, str, str], None] = {}

        def note(action: int, name: str | None, _: str | None, place: str | None, trigger: str | None) -> int:
            if action in _VERBS and place == "main" and trigger is not None and name is not None:
                seen[name, _VERBS[action], trigger] = None
            return sqlite3.SQLITE_OK

        clause = self._statements.table(table)
        change: sa.Delete | sa.Update = sa.delete(clause)
        if columns is not None:
            change = sa.update(clause).values({clause.c[name]: sa.null() for name in columns})
        self._raw.set_authorizer(note)
        try:
            self._gate.run_text(f"EXPLAIN {change.compile(dialect=self._connection.dialect)}")
        finally:
            self._raw.set_authorizer(None)
        by_name = {known.name.name.lower(): known for known in self.schema.tables}
        return tuple(Effect(by_name[name.lower()], verb, trigger) for name, verb, trigger in seen)

    def delete(self, keys: KeySet) -> int:
        return self._gate.run(self._statements.delete(keys)).rowcount

    def detach(self, reference: Reference, columns: Sequence[str], keys: KeySet, to_default: bool) -> int:
        defaults = _defaults(reference.child, columns) if to_default else None
        return self._gate.run(self._statements.detach(columns, keys, defaults)).rowcount

    def unlink(self, reference: Reference, keys: KeySet) -> int:
        return self._gate.run(self._statements.unlink(reference, keys)).rowcount

    def change_count(self) -> int:
        return self._raw.total_changes

    # Checking

    def count_present(self, keys: KeySet) -> int:
        return self._gate.number(self._statements.count_present(keys))

    def count_detached(self, reference: Reference, columns: Sequence[str], keys: KeySet, to_default: bool) -> int:
        defaults = _defaults(reference.child, columns) if to_default else None
        return self._gate.number(self._statements.count_detached(columns, keys, defaults))

    def count_dangling(self, reference: Reference, keys: KeySet) -> int:
        return self._gate.number(self._statements.count_dangling(reference, keys))


class SqliteStatements(Statements):
    def __init__(self) -> None:
        super().__init__("temp", adapt)

    def pointing(self, reference: Reference) -> list[sa.ColumnElement[Any]]:
        """SQLite compares with the collation of the referred column (https://www.sqlite.org/foreignkeys.html, 3)."""
        columns = super().pointing(reference)
        for place, referred in enumerate(reference.referred):
            there = reference.parent.column(referred)
            if affinity(there.type) in ("TEXT", "BLOB"):
                columns[place] = sa.collate(columns[place], there.collation or "BINARY")
        return columns


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


def _defaults(table: Table, columns: Sequence[str]) -> list[str]:
    return [table.column(name).default or "NULL" for name in columns]


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
