"""SQLite: an embedded database in one file."""

from __future__ import annotations

import hashlib
import math
import re
import sqlite3
import time
from collections.abc import Collection, Iterator, Sequence
from contextlib import contextmanager
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any
from urllib.parse import quote

import sqlalchemy as sa

from yeldro.core.database.abilities import Abilities, Effect, Mode, Quirk
from yeldro.core.database.change_counts import Changes
from yeldro.core.database.column_profile import Odd
from yeldro.core.database.sent import Kind
from yeldro.core.database.space import Space
from yeldro.core.model.key_set import KeySet, StoredKeys, WholeTable
from yeldro.core.model.schema import (
    Column,
    Family,
    Reference,
    ReferentialAction,
    Table,
    TableName,
)
from yeldro.core.model.shape import Shape
from yeldro.engines.shared.calls import ListJudge
from yeldro.engines.shared.connection import SqlDatabase, did_not_commit
from yeldro.engines.shared.gate import Gate
from yeldro.engines.shared.literals import write_for_sqlite
from yeldro.engines.shared.statements import Words
from yeldro.engines.shared.writer import Writer
from yeldro.engines.sqlite.authorizer import LISTEN, OUTSIDE, VERBS, deny_changes
from yeldro.engines.sqlite.catalogue import affinity, read_schema
from yeldro.engines.sqlite.errors import translate
from yeldro.engines.sqlite.shape import find_shape_version, read_shape
from yeldro.engines.sqlite.statements import SqliteStatements
from yeldro.errors import DatabaseFailed, Interrupted, Locked, Refused, TookTooLong, YeldroError

if TYPE_CHECKING:
    from yeldro.engines.sqlite.archive import SqliteArchive
    from yeldro.engines.sqlite.numbered_keys import SqliteNumberedKeys
    from yeldro.engines.sqlite.ranking import SqliteRanking
    from yeldro.engines.sqlite.replacing import SqliteReplacing

# Days in the one form whose order as texts is their order in time.
_DAY: sa.ColumnElement[str] = sa.literal_column("'[0-9][0-9][0-9][0-9]-[0-1][0-9]-[0-3][0-9]*'")
# The rules that wait for the end where checks are deferred.
_LATE = {ReferentialAction.NO_ACTION, ReferentialAction.RESTRICT}
# Triggers that may replace rows, and tables that may let them.
_MADE = "SELECT sql FROM main.sqlite_schema WHERE type = 'table' AND name = :name"
_COUNTERS = "SELECT 1 FROM main.sqlite_schema WHERE name = 'sqlite_sequence'"
_REPLACING = (
    "SELECT name FROM main.sqlite_master WHERE type IN ('table', 'trigger') AND sql LIKE "
    "'%REPLACE%'"
)
# The table of a script that its checks are written to.
CHECKS = "yeldro_checks"


def open_sqlite(path: Path, mode: Mode, wait: float) -> SqliteDatabase:
    """Open an existing file. With Mode.READ the connection itself is read-only. `wait` is in
    seconds.

    DatabaseFailed where there is no such file, or where it is no database.
    """
    if not path.exists():
        raise DatabaseFailed(
            f"There is no database file {path}.", "Check the path; no file was made."
        )
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
        return SqliteDatabase(engine, path, mode)
    except sa.exc.DBAPIError as error:
        raise translate(error.orig or error) from error


class SqliteDatabase(SqlDatabase):
    """A connection to one file."""

    dialect = "sqlite"
    _deadline = math.inf
    """When a statement must have ended, by the clock that never goes back."""

    _shape_version = -1
    """The version of the schema when `shape` was read."""

    aside = 0
    """Rows of the engine's own that were changed while a run was counted."""

    _waits = False
    """Whether references are only checked at the commit of this transaction."""

    # Other rules act row by row, in the order in which one statement happens to delete
    # (https://www.sqlite.org/foreignkeys.html, section 4.3); RESTRICT waits like NO ACTION once
    # checks are deferred.
    abilities = Abilities(
        tree_rules=frozenset({ReferentialAction.NO_ACTION, ReferentialAction.RESTRICT}),
        cycle_rules=frozenset(
            {ReferentialAction.NO_ACTION, ReferentialAction.RESTRICT, ReferentialAction.CASCADE}
        ),
        truncates="SQLite has no TRUNCATE: this is a DELETE of all rows. It can be rolled back, "
        "and triggers run.",
        needless_prefix="main",
        quirks=frozenset({Quirk.UNTYPED, Quirk.QUOTED_TEXTS, Quirk.BLIND_LIKE}),
    )

    def __init__(self, engine: sa.Engine, path: Path, mode: Mode) -> None:
        connection = engine.connect()
        raw = connection.connection.driver_connection
        assert isinstance(raw, sqlite3.Connection)
        self.raw = raw
        self._dialect = connection.dialect
        self.uri = f"file:{quote(str(path.resolve()))}?mode=rw"
        self.attached: dict[Path, str] = {}
        self.looked_up: set[str] = set()
        raw.set_progress_handler(self._is_late, LISTEN)
        raw.create_aggregate("yeldro_digest", 1, _Digest)  # type: ignore[arg-type]  # it may return texts too

        def count_changes(
            _: Any,
        ) -> int:  # the driver's own count is -1 for a statement that begins with WITH
            return int(raw.execute("SELECT changes()").fetchone()[0])

        gate = Gate(
            connection, translate, lambda: raw.in_transaction, self._make_writer(""), count_changes
        )
        super().__init__(str(path), gate, SqliteStatements())
        try:
            self._pin_settings()
            if mode is Mode.WRITE:
                self._shape_version = find_shape_version(self.gate)
                self.shape = read_shape(self.gate)
            self.schema = read_schema(self.gate)
            self.statements.avoid(table.name.name for table in self.schema.tables)
            self._judge_by(ListJudge(OUTSIDE))
            self.encoding = str(self.gate.run_text("PRAGMA encoding").scalar_one())
            # A text that is not UTF-8 is shown as far as it can be, instead of ending the command.
            raw.text_factory = lambda data: data.decode("utf-8", "replace")
        except BaseException:
            self.close()
            raise

    @cached_property
    def ranking(self) -> SqliteRanking:
        from yeldro.engines.sqlite.ranking import SqliteRanking

        return SqliteRanking(self)

    @cached_property
    def numbered(self) -> SqliteNumberedKeys:
        from yeldro.engines.sqlite.numbered_keys import SqliteNumberedKeys

        return SqliteNumberedKeys(self)

    @cached_property
    def replacing(self) -> SqliteReplacing:
        from yeldro.engines.sqlite.replacing import SqliteReplacing

        return SqliteReplacing(self)

    @cached_property
    def archive(self) -> SqliteArchive:
        from yeldro.engines.sqlite.archive import SqliteArchive

        return SqliteArchive(self)

    def _pin_settings(self) -> None:
        self.gate.run_text("PRAGMA foreign_keys = ON")
        if self.gate.run_text("PRAGMA foreign_keys").scalar_one() != 1:
            raise DatabaseFailed("Foreign keys cannot be enforced in this build of SQLite.")
        self.gate.run_text("PRAGMA recursive_triggers = OFF")

    def _make_writer(self, leave_out: str) -> Writer:
        return Writer(
            self._dialect,
            self.dialect,
            lambda value: write_for_sqlite(value, self.encoding),
            leave_out,
        )

    @contextmanager
    def limited(self, seconds: float) -> Iterator[None]:
        with super().limited(seconds):
            try:
                yield
            except Interrupted:
                # SQLite has one word for whatever ends a statement: was it a person, or the time?
                if self._is_late():
                    raise TookTooLong("The statement took too long.") from None
                raise

    def _limit(self, seconds: float | None) -> None:
        self._deadline = math.inf if seconds is None else time.monotonic() + seconds

    def _is_late(self) -> int:
        """SQLite asks now and then while it works, which also lets Ctrl-C be heard."""
        return int(time.monotonic() > self._deadline)

    def exclude(self, name: str) -> None:
        """Only one may write at a time: it is enough that nobody does now."""
        try:
            self.gate.run_text("BEGIN IMMEDIATE")
        except Locked:
            raise Refused(
                "Another program writes to this database, perhaps another run of this cleanup.",
                "Try again when it is done.",
            ) from None
        self.gate.run_text("ROLLBACK")

    def write_settings(self) -> list[str]:
        return ["PRAGMA foreign_keys = ON", "PRAGMA recursive_triggers = OFF"]

    def find_shape(self, tables: Collection[TableName]) -> Shape:
        """Read anew only where the file says that a schema was changed."""
        if find_shape_version(self.gate) == self._shape_version:
            return self.shape
        return read_shape(self.gate)

    def _begin(self, mode: Mode, alone: Sequence[Table], held: Sequence[Table]) -> None:
        """Nobody else writes, nor changes a definition, until it ends."""
        self._waits = False
        if mode is Mode.READ:
            self.gate.run_text("BEGIN")
            self.raw.set_authorizer(deny_changes)
        else:
            self.gate.run_text("BEGIN IMMEDIATE", Kind.PLAIN)

    def find_version(self) -> int | None:
        """https://www.sqlite.org/pragma.html#pragma_data_version"""
        return int(self.gate.run_text("PRAGMA main.data_version").scalar_one())

    def _defer_checks(self) -> None:
        self._waits = True
        self.gate.run_text("PRAGMA defer_foreign_keys = ON", Kind.PLAIN)

    def keeps(self, reference: Reference) -> bool:
        return not (self._waits or reference.late)

    def _commit(self) -> None:
        self.raw.set_authorizer(None)
        try:
            self.gate.run_text("COMMIT")
        except YeldroError as error:
            if self.raw.in_transaction:
                raise did_not_commit(error) from error
            raise
        if self.raw.in_transaction:
            raise did_not_commit()

    def _rollback(self) -> None:
        self.raw.set_authorizer(None)
        if self.raw.in_transaction:
            self.gate.run_text("ROLLBACK")

    def check_rights(
        self, deleted: Sequence[Table], changed: Sequence[tuple[Table, Sequence[str]]]
    ) -> None:
        """There are none but those on the file."""

    def prepare_key_sets(self, tables: Sequence[Table], new: Sequence[str] = ()) -> None:
        """Temporary tables can be made at any time."""

    def create_key_table(self, keys: StoredKeys, *, unique: bool = True) -> None:
        self.gate.make(keys.name, self.define_key_table(keys, unique=unique))

    def define_key_table(self, keys: StoredKeys, *, unique: bool) -> str:
        table = keys.table
        definitions = self.define_key_columns(keys)
        new = [f"n{place}{self._definition(table, name)}" for place, name in enumerate(keys.new)]
        whole_number = unique and self.is_whole_number(keys)
        if whole_number:
            definitions[0] += " PRIMARY KEY"
        elif unique:
            places = ", ".join(f"c{place}" for place in range(len(table.identity)))
            definitions.append(f"PRIMARY KEY ({places})")
        columns = ", ".join(["round INTEGER NOT NULL", *new, *definitions])
        return (
            f"CREATE TEMP TABLE {keys.name} "
            f"({columns}){' WITHOUT ROWID' if unique and not whole_number else ''}"
        )

    def define_key_columns(self, keys: StoredKeys) -> list[str]:
        """The columns of the identity with their types."""
        return [
            f"c{place}{self._definition(keys.table, name)}"
            for place, name in enumerate(keys.columns)
        ]

    def is_whole_number(self, keys: KeySet) -> bool:
        """Whether the identity is the row number, under its own name or as INTEGER PRIMARY KEY:
        other columns of that type may hold anything."""
        table, identity = keys.table, keys.table.identity
        is_alias = any(not index.name and index.columns == identity for index in table.indexes)
        return len(identity) == 1 and (is_alias or identity[0] not in table.column_names)

    def _definition(self, table: Table, name: str) -> str:
        """The same affinity and collation as the column, so that values compare as they do in the
        table."""
        if name not in table.column_names:
            return " INTEGER"
        column = table.column(name)
        kind = affinity(column.type)
        collation = f' COLLATE "{column.collation}"' if column.collation else ""
        return f"{'' if kind == 'BLOB' else ' ' + kind}{collation}"

    def _odd(
        self, column: Column, cell: sa.ColumnElement[Any]
    ) -> Iterator[tuple[Odd, sa.ColumnElement[bool]]]:
        """Any column may hold anything, and days are texts."""
        yield from super()._odd(column, cell)
        kind = sa.func.typeof(cell)
        is_text, is_bytes = (kind == sa.literal_column(f"'{name}'") for name in ("text", "blob"))
        is_number = kind.in_([sa.literal_column("'integer'"), sa.literal_column("'real'")])
        if column.family in (Family.INTEGER, Family.NUMBER, Family.BOOLEAN):
            yield Odd.TEXT, is_text
        elif column.family in (Family.DATE, Family.TIMESTAMP):
            yield (
                Odd.NOT_A_DAY,
                sa.and_(is_text, sa.not_(cell.op("GLOB", is_comparison=True)(_DAY))),
            )
            yield Odd.NUMBER, is_number
        elif column.family is Family.TEXT:
            yield Odd.NUMBER, is_number
        if column.family is not Family.OTHER:
            yield Odd.BYTES, is_bytes

    def fill(self, into: StoredKeys, statement: sa.Insert) -> int:
        """The driver's own count is -1 for a statement that begins with WITH."""
        before = self.raw.total_changes
        super().fill(into, statement)
        return self.raw.total_changes - before

    def find_effects(
        self, table: Table, columns: Sequence[str] | None, event: str = "delete"
    ) -> tuple[Effect, ...]:
        """SQLite tells an authorizer what a statement, its triggers included, would write when it
        is prepared."""
        seen: dict[tuple[str, str, str], None] = {}

        def note(
            action: int, name: str | None, _: str | None, place: str | None, trigger: str | None
        ) -> int:
            if action in VERBS and place == "main" and trigger is not None and name is not None:
                seen[name, VERBS[action], trigger] = None
            return sqlite3.SQLITE_OK

        clause = self.statements.table(table)
        change: sa.Delete | sa.Update | Words = sa.delete(clause)
        if event == "insert":
            change = Words("INSERT INTO", clause, "DEFAULT VALUES")
        if columns is not None:
            change = sa.update(clause).values({clause.c[name]: sa.null() for name in columns})
        self.raw.set_authorizer(note)
        try:
            self.gate.run_text(f"EXPLAIN {change.compile(dialect=self.gate.connection.dialect)}")
        finally:
            self.raw.set_authorizer(None)
        # What an insertion replaces is not told.
        # SQLite does not tell an authorizer of rows that INSERT OR REPLACE pushes out.
        replacing = {name.lower() for (name,) in self.gate.read(_REPLACING)}
        for name, verb, trigger in list(seen):
            if verb == "insert" and {name.lower(), trigger.lower()} & replacing:
                seen[name, "delete", trigger] = None
        by_name = {known.name.name.lower(): known for known in self.schema.tables}
        return tuple(Effect(by_name[name.lower()], verb, trigger) for name, verb, trigger in seen)

    def find_changes(self) -> Changes:
        return Changes(self.raw.total_changes - self.aside)

    def delete(self, keys: KeySet) -> int:
        outgoing = self.schema.outgoing(keys.table)
        if any(
            reference.is_self and reference.on_delete is ReferentialAction.RESTRICT
            for reference in outgoing
        ):
            self._defer_checks()
        # Rows that could not be pointed at themselves, because they have NULL where they would be
        # pointed at: nothing depends on them, so they go first.
        stuck = [
            reference
            for reference in outgoing
            if reference.is_self and not reference.is_clearable and reference.on_delete not in _LATE
        ]
        if stuck:
            return self._delete_leaves_first(keys, stuck)
        rigid = [
            reference
            for reference in outgoing
            if _is_rigid(reference) and reference.on_delete not in _LATE
        ]
        return (self._delete_empty(keys, rigid) if rigid else 0) + super().delete(keys)

    def _delete_empty(self, keys: KeySet, references: Sequence[Reference]) -> int:
        """Those that have NULL where one of these references leads."""
        clause = self.statements.table(keys.table)
        empty = [clause.c[name].is_(None) for one in references for name in one.referred]
        if any(one.is_self and one.on_delete in _LATE for one in self.schema.outgoing(keys.table)):
            self._defer_checks()  # others of these rows may still point at them
        return self.gate.run(self.statements.delete(keys).where(sa.or_(*empty))).rowcount

    def _delete_leaves_first(self, keys: KeySet, references: Sequence[Reference]) -> int:
        """Level by level, so that the rules of references whose links must stay have nothing to do.
        Rows in a cycle go together in the end; their cascades are counted with them."""
        done = 0
        while gone := self.gate.run(self.statements.delete_leaves(keys, references)).rowcount:
            done += gone
        before = self.raw.total_changes
        super().delete(keys)
        return done + self.raw.total_changes - before

    def gives_again(self, keys: KeySet) -> bool:
        """A number that no other row has had since, unless the table says AUTOINCREMENT."""
        table = keys.table
        if len(table.key) != 1 or table.column(table.key[0]).type.upper() != "INTEGER":
            return False
        made = self.gate.run(sa.text(_MADE).bindparams(name=table.name.name)).scalar_one()
        if re.search(r"\bAUTOINCREMENT\b|\bWITHOUT\s+ROWID\b", made, re.IGNORECASE):
            return False
        if isinstance(keys, WholeTable):
            return True
        if table.key != keys.columns[:1] or not isinstance(keys, StoredKeys):
            return False
        cell, *_ = self.statements.key_columns(keys, table.key)
        column = self.statements.table(table).c[table.key[0]]
        last = sa.select(sa.func.max(column)).scalar_subquery()
        return self.gate.number(sa.select(sa.func.max(cell) == last)) == 1

    def truncate(self, table: Table, *, restart: bool = False) -> int:
        """In a script it is of a table that goes with the transaction: where that was undone,
        nothing is deleted."""
        delete = sa.delete(self.statements.table(table))
        if self.gate.scribe:
            # Where the script was undone the table is gone, and the statement fails instead of
            # deleting.
            checks = sa.table(CHECKS, schema="temp")
            self.gate.run_text(f"CREATE TEMP TABLE IF NOT EXISTS {CHECKS} (what TEXT)")
            any_number = sa.select(sa.func.count()).select_from(
                checks
            ).scalar_subquery() >= sa.literal_column("0")
            delete = delete.where(any_number)
        done = self.gate.run(delete).rowcount
        if restart and self.gate.read(_COUNTERS):
            counters = sa.table("sqlite_sequence", sa.column("name"))
            forget = sa.delete(counters).where(counters.c.name == table.name.name)
            self.aside += self.gate.run(forget).rowcount
        return done

    def measure(self, tables: Sequence[Table]) -> Sequence[Space]:
        size, pages, free = (
            int(self.gate.run_text(f"PRAGMA {name}").scalar_one())
            for name in ("page_size", "page_count", "freelist_count")
        )
        return [Space("the file", pages * size, free * size)]

    def _make_analyze(self, tables: Sequence[Table]) -> list[Words]:
        """Where nobody ever analyzed, SQLite decides whether it is worth a table of figures."""
        found = self.gate.run_text("SELECT 1 FROM main.sqlite_master WHERE name = 'sqlite_stat1'")
        if not found.first():
            return [Words("PRAGMA optimize")]
        return [Words("ANALYZE", self.statements.table(table)) for table in tables]

    def build_index(self, reference: Reference) -> None:
        if reference not in self._built:
            self._build_index(reference)

    def delete_together(self, key_sets: Sequence[KeySet]) -> int:
        """The checks wait for the commit; cascades inside the cycle may run ahead, so the total is
        what counts."""
        self._defer_checks()
        before = self.raw.total_changes
        for keys in key_sets:
            self.delete(keys)
        return self.raw.total_changes - before


class _Digest:
    """A sum over texts, whatever their order, that is hardly ever the same for other ones."""

    def __init__(self) -> None:
        self.total = 0

    def step(self, *texts: Any) -> None:
        self.total += sum(
            int.from_bytes(hashlib.sha256(str(text).encode()).digest()) for text in texts
        )

    def finalize(self) -> str:
        return str(self.total)


def _is_rigid(reference: Reference) -> bool:
    """Whether it is a self-reference without a column that may be NULL, to a column that may."""
    referred = [reference.parent.column(name) for name in reference.referred]
    return (
        reference.is_self
        and not reference.nullable_columns
        and any(column.nullable for column in referred)
    )
