"""PostgreSQL, through psycopg 3."""

from __future__ import annotations

import re
import string
from collections.abc import Callable, Iterator, Sequence
from contextlib import ExitStack, contextmanager
from tempfile import SpooledTemporaryFile
from typing import IO, Any

import psycopg
import sqlalchemy as sa
from psycopg import errors as codes
from psycopg.abc import Buffer
from psycopg.adapt import Loader
from psycopg.types.string import TextLoader

from yeldro.core.database.abilities import Abilities, Effect, Mode
from yeldro.core.database.archive_format import Cells, Form, Piece, Sink, Source, Stage
from yeldro.core.database.change_counts import Changes, TableChanges
from yeldro.core.database.sent import Kind
from yeldro.core.model.address import Address, Link
from yeldro.core.model.key_set import KeySet, StoredKeys
from yeldro.core.model.schema import Column, Family, OnDelete, Reference, Table, TableName
from yeldro.core.selection.grouping import Ignored, Ranking, Same
from yeldro.core.selection.plain_text import WHITE
from yeldro.engines.postgresql.calls import PostgresqlJudge
from yeldro.engines.postgresql.catalogue import read_schema
from yeldro.engines.postgresql.compiler import FullCompiler
from yeldro.engines.postgresql.held import as_text
from yeldro.engines.postgresql.link import GuardedConnection, find_arguments
from yeldro.engines.postgresql.statements import KEPT_AS, Collated, Named, PostgresqlStatements
from yeldro.engines.shared.connection import (
    LONGEST,
    SqlDatabase,
    cannot_connect,
    did_not_commit,
    pooled,
    under_way,
)
from yeldro.engines.shared.gate import Gate
from yeldro.engines.shared.held import Holding
from yeldro.engines.shared.literals import write_for_postgresql
from yeldro.engines.shared.plain_text import ServerSpelling
from yeldro.engines.shared.statements import Words, bare, find_defaults, find_values, in_brackets
from yeldro.engines.shared.writer import Writer
from yeldro.errors import BadStatement, DatabaseFailed, YeldroError

# Settings that change what a value or a condition means, with the one meaning that we count on.
_PINNED = {
    "timezone": "UTC",
    "datestyle": "ISO, YMD",
    "intervalstyle": "postgres",
    "bytea_output": "hex",
    "extra_float_digits": "1",
    "standard_conforming_strings": "on",
    "row_security": "off",
    "session_replication_role": "origin",
    "client_encoding": "UTF8",
    "track_counts": "on",
    "lc_monetary": "C",
    "xmloption": "content",
    "default_transaction_read_only": "off",
}
# Those of them that only we need.
_ONLY_OURS = {
    "default_transaction_read_only",
    "track_counts",
    "bytea_output",
    "extra_float_digits",
    "xmloption",
}
# Classes of SQLSTATE that may come instead of the answer to a COMMIT: connection exception,
# operator intervention.
_OF_CONNECTIONS = ("08", "57")
_NOT_READ_BACK = {
    *("pg_node_tree", "pg_ndistinct", "pg_dependencies", "pg_mcv_list"),
    *("pg_brin_bloom_summary", "pg_brin_minmax_multi_summary"),
}
_ESCAPED = str.maketrans({"\\": "\\\\", "\t": "\\t", "\n": "\\n", "\r": "\\r"})
_LARGE = 1000
# Bytes that are held in memory before they go to a file, and bytes that are sent at a time.
_SPOOLED, _BLOCK = 1 << 24, 1 << 16
# The types whose values Python holds exactly.
_OF_PYTHON = {"bool", "int2", "int4", "int8", "oid", "float4", "float8", "numeric", "bytea"}
_ORDERED = {Family.TEXT, Family.INTEGER, Family.NUMBER, Family.DATE, Family.TIMESTAMP}
_RIGHTS = """
SELECT pg_catalog.pg_is_in_recovery(),
pg_catalog.has_database_privilege(pg_catalog.current_database(), 'TEMPORARY'),
  pg_catalog.quote_ident(pg_catalog.current_database()::text),
  pg_catalog.quote_ident(current_user::text)"""
_SEQUENCES = """
SELECT a.attname, format('%I.%I', n.nspname, s.relname), q.seqincrement,
  COALESCE(pg_sequence_last_value(s.oid), q.seqstart - q.seqincrement)
FROM pg_class AS t JOIN pg_namespace AS m ON m.oid = t.relnamespace
JOIN pg_attribute AS a ON a.attrelid = t.oid AND a.attnum > 0
LEFT JOIN pg_attrdef AS e ON e.adrelid = t.oid AND e.adnum = a.attnum
JOIN pg_depend AS d ON d.classid = 'pg_class'::regclass AND d.refobjid = t.oid AND d.refobjsubid =
a.attnum
    AND d.deptype IN ('a', 'i')
  OR d.classid = 'pg_attrdef'::regclass AND d.objid = e.oid
JOIN pg_class AS s ON s.oid = CASE WHEN d.classid = 'pg_class'::regclass THEN d.objid ELSE
d.refobjid END
  AND s.relkind = 'S'
JOIN pg_sequence AS q ON q.seqrelid = s.oid JOIN pg_namespace AS n ON n.oid = s.relnamespace
WHERE m.nspname = :schema AND t.relname = :table
  AND CASE WHEN s.relkind = 'S' THEN has_sequence_privilege(s.oid, 'UPDATE') END"""
_OWNER = """
SELECT pg_has_role(relowner, 'USAGE') FROM pg_class JOIN pg_namespace ON relnamespace =
pg_namespace.oid
WHERE nspname = :schema AND relname = :table"""
_CHANGES = """
SELECT schemaname, relname, n_tup_ins, n_tup_upd, n_tup_del FROM pg_stat_xact_all_tables
WHERE (schemaname NOT IN ('pg_catalog', 'information_schema') AND schemaname !~ '^pg_(toast|temp)'
  OR schemaname = 'pg_catalog' AND relname ~ '^pg_largeobject') AND n_tup_ins + n_tup_upd +
  n_tup_del > 0"""
# No counter tells of TRUNCATE, DROP, DETACH PARTITION or DROP COLUMN. A materialized view may be
# refreshed.
_STORAGE = """
SELECT n.nspname, c.relname, c.oid::text || ' ' || c.relfilenode::text || ' ' ||
c.relispartition::text || ' ' || (
    SELECT count(*) FROM pg_attribute AS a WHERE a.attrelid = c.oid AND a.attisdropped)::text
FROM pg_class AS c JOIN pg_namespace AS n ON n.oid = c.relnamespace
WHERE c.relkind IN ('r', 'p') AND n.nspname NOT IN ('pg_catalog', 'information_schema')
  AND n.nspname !~ '^pg_(toast|temp)'"""

_BLIND = """
SELECT format_type(atttypid, NULL) = 'citext' OR NOT COALESCE(collisdeterministic, true)
FROM pg_attribute AS a JOIN pg_class AS t ON t.oid = attrelid JOIN pg_namespace AS n ON n.oid =
relnamespace
LEFT JOIN pg_collation AS c ON c.oid = attcollation
WHERE nspname = :schema AND t.relname = :table AND attname = :column"""

# https://www.postgresql.org/docs/current/errcodes-appendix.html
_MESSAGES: tuple[tuple[type[psycopg.Error] | tuple[type[psycopg.Error], ...], str], ...] = (
    (codes.LockNotAvailable, "No lock in time: another session holds the rows."),
    (codes.DeadlockDetected, "The database ended a deadlock with another session."),
    (codes.SerializationFailure, "Another session changed the same rows meanwhile."),
    (
        codes.ReadOnlySqlTransaction,
        "The transaction is read-only: a function tried to write, or this is a standby.",
    ),
    (codes.QueryCanceled, "The statement was cancelled or took longer than the server allows."),
    ((codes.AdminShutdown, codes.CrashShutdown), "The server ended the connection."),
)


class _FloatLoader(Loader):
    """A number, or the server's own word for what is none."""

    def load(self, data: Buffer) -> float | str:
        text = bytes(data).decode()
        return text if text in ("NaN", "Infinity", "-Infinity") else float(text)


def open_postgresql(address: Address, wait: float, link: Link) -> PostgresqlDatabase:
    """Connect. `wait` is the lock timeout in seconds. DatabaseFailed where the server cannot be
    reached."""
    arguments = find_arguments(address, wait or LONGEST, link)
    engine = sa.create_engine(
        "postgresql+psycopg://",
        poolclass=sa.pool.NullPool,
        isolation_level="AUTOCOMMIT",
        skip_autocommit_rollback=True,
        # Prepared from the first time on: the extended protocol takes one statement only.
        creator=lambda: _connect(arguments, link),
        # It would be looked for with operators of whatever schema comes first.
        use_native_hstore=False,
    )
    engine.dialect.statement_compiler = FullCompiler
    try:
        connection = engine.connect()
    except (sa.exc.DBAPIError, psycopg.Error) as error:
        found = error.orig if isinstance(error, sa.exc.DBAPIError) else error
        lines = str(found).strip().splitlines()
        raise cannot_connect(address, lines[-1] if lines else "") from None
    return PostgresqlDatabase(connection, address, wait)


def _connect(arguments: dict[str, Any], link: Link) -> psycopg.Connection[Any]:
    """A pooler invents the number of the backend. It is asked for before anything else, which it
    could mix up."""
    raw = GuardedConnection.connect(**arguments, prepare_threshold=0, autocommit=True)
    if not link.pooled:
        row = raw.execute(b"SELECT pg_catalog.pg_backend_pid()", prepare=False).fetchone()
        if row is None or row[0] != raw.info.backend_pid:
            raw.close()
            raise pooled()
    return raw


class PostgresqlDatabase(ServerSpelling, SqlDatabase):
    """A connection to one database."""

    dialect = "postgres"
    _path: str | None = None
    """The search path that this role has here."""
    _statements: PostgresqlStatements
    # One statement checks its references when it is done, so order within a statement does not
    # matter.
    abilities = Abilities(
        tree_rules=frozenset(OnDelete),
        cycle_rules=frozenset(OnDelete),
        truncates="TRUNCATE can be rolled back here. It runs no DELETE triggers; nobody can use "
        "the table meanwhile.",
        keeps_references=True,
    )

    def __init__(self, connection: sa.Connection, address: Address, wait: float) -> None:
        raw = connection.connection.driver_connection
        assert isinstance(raw, psycopg.Connection)
        self._raw = raw
        self._dialect = connection.dialect

        def is_whole() -> bool:
            return raw.info.transaction_status == psycopg.pq.TransactionStatus.INTRANS

        self._sent = Writer(self._dialect, self.dialect, write_for_postgresql, as_sent=True)
        gate = Gate(connection, _translate, is_whole, self._make_writer(""))
        super().__init__(str(address), gate, PostgresqlStatements("pg_temp", _as_it_is))
        try:
            self._session = self._find_session()
            if self._setting("default_transaction_read_only") == "on":
                self._only_looks = "default_transaction_read_only"
            self._pin_settings(wait)
            self._find_rights()
            path = self._read_path()
            with self._own_path():
                self.schema = read_schema(self._gate, path)
            self._statements.avoid(table.name.name for table in self.schema.tables)
            self._judge_by(PostgresqlJudge(self._gate, self._own_path, self.schema, path))
            self._show_as_written()
        except BaseException:
            self.close()
            raise

    def _show_as_written(self) -> None:
        """From now on take most values as the texts that the server sends: Python has no infinity,
        BC or year 10000."""
        for kind in list(self._raw.adapters.types):
            if kind.name in ("float4", "float8"):
                self._raw.adapters.register_loader(kind.oid, _FloatLoader)
            oids = [kind.array_oid] if kind.name in _OF_PYTHON else [kind.oid, kind.array_oid]
            for oid in filter(None, oids):
                self._raw.adapters.register_loader(oid, TextLoader)

    def _pin_settings(self, wait: float) -> None:
        """Set each and read it back: a setting that cannot be pinned is an error, not a hope."""
        wanted = {**_PINNED, "lock_timeout": f"{max(1, round(wait * 1000))}ms"}
        for name, value in wanted.items():
            if self._setting(name) != value:
                try:
                    self._gate.run(sa.select(sa.func.set_config(name, value, False)))
                except DatabaseFailed as error:
                    raise DatabaseFailed(
                        f"The setting {name} cannot be set to {value}.", error.message
                    ) from error
        for name, value in _PINNED.items():
            if self._setting(name) != value:
                raise DatabaseFailed(f"The setting {name} is not {value}, although it was set.")

    def check_rights(
        self, deleted: Sequence[Table], changed: Sequence[tuple[Table, Sequence[str]]]
    ) -> None:
        """To lock a row takes the right to change it."""
        super().check_rights(deleted, changed)
        parents = {one.parent for one in self.schema.acting}
        for table in deleted:
            if table in parents:
                one: sa.Select[Any] = sa.select(sa.literal_column("1")).select_from(
                    self._statements.table(table)
                )
                self._explain(one.where(sa.false()).with_for_update())

    def _find_rights(self) -> None:
        """Without temporary tables one can still look: what would be in them is held here."""
        standby, may, database, role = tuple(self._gate.run_text(_RIGHTS).one())
        if standby or not may:
            lift = f"GRANT TEMPORARY ON DATABASE {database} TO {role} would let it."
            lift = "It is a standby: ask the primary server." if standby else lift
            self._gate.lift = lift
            self._statements.holding = Holding(
                "bigint", {"tableoid": "oid", "ctid": "tid"}, lift, as_text
            )

    def _read_path(self) -> list[str]:
        """The schemas in which a bare name is looked for, behind those of the server itself."""
        rows = self._gate.run_text("SELECT pg_catalog.unnest(pg_catalog.current_schemas(true))")
        system, *path = [str(name) for (name,) in rows if not str(name).startswith("pg_temp")]
        if system != "pg_catalog":
            raise DatabaseFailed(
                f"The search path puts {system} before pg_catalog, so its functions stand in for "
                "the server's own.",
                "Leave pg_catalog out of the search path of this role or database: then it always "
                "comes first.",
            )
        return path

    @contextmanager
    def _own_path(self) -> Iterator[None]:
        """Statements of ours that are written as texts find nothing but what comes with the
        server.
        """
        if self._path is None:
            self._path = self._setting("search_path")
        local = self._gate.in_transaction
        self._gate.run_text(
            f"SET {'LOCAL' if local else 'SESSION'} search_path = pg_catalog, pg_temp", Kind.PLAIN
        )
        yield
        # Not in a `finally`: after an error the transaction is rolled back, and with it the path.
        self._gate.run(sa.select(sa.func.set_config("search_path", self._path, local)), Kind.PLAIN)

    def write_settings(self) -> list[str]:
        return [
            f"SET {name} = '{value}'" for name, value in _PINNED.items() if name not in _ONLY_OURS
        ]

    def _make_writer(self, leave_out: str) -> Writer:
        return Writer(self._dialect, self.dialect, write_for_postgresql, leave_out)

    def exclude(self, name: str) -> None:
        self._releasing = "SELECT pg_catalog.pg_advisory_unlock_all()"
        key = sa.func.hashtextextended(name, sa.literal_column("0"))
        if not self._gate.run(sa.select(sa.func.pg_try_advisory_lock(key))).scalar_one():
            raise under_way()

    def _setting(self, name: str) -> str:
        return str(self._gate.run(sa.select(sa.func.current_setting(name))).scalar_one())

    def _begin(self, mode: Mode, alone: Sequence[Table]) -> None:
        self._uncounted: dict[TableName, TableChanges] = {}
        self._planned = "on"
        access = "READ ONLY" if mode is Mode.READ else "READ WRITE"
        self._control(f"BEGIN ISOLATION LEVEL REPEATABLE READ {access}")
        for table in alone:
            # Before the snapshot is taken, because TRUNCATE also removes what the snapshot does not
            # show.
            self._gate.run(
                Words("LOCK TABLE", self._statements.table(table), "IN ACCESS EXCLUSIVE MODE")
            )
        if mode is Mode.WRITE:
            # Nothing but a lock keeps others from adding rows that depend on ours through an
            # undeclared reference.
            for child in {one.child for one in self.schema.references if not one.declared}:
                clause = self._statements.table(child)
                self._gate.run(Words("LOCK TABLE", clause, "IN SHARE ROW EXCLUSIVE MODE"))
        parents = {one.parent for one in self.schema.acting}
        self._statements.locked = frozenset(parents if mode is Mode.WRITE else ())
        # A read-only transaction could be switched back before its first query.
        if self._find_session() != self._session:
            raise pooled()

    def _find_session(self) -> int:
        return int(self._gate.run_text("SELECT pg_catalog.pg_backend_pid()").scalar_one())

    def close_over(self, reference: Reference, keys: StoredKeys, *, round: int = 0) -> int:
        """A recursive query cannot lock what it finds.

        How many levels there are is unknown to the planner: one look into the index for each row
        costs the same at any depth, while a hash join may scan the whole table once a level.
        """
        self._let_planner("off" if reference.is_indexed else "on")
        added = super().close_over(reference, keys, round=round)
        self._let_planner("on")
        if added and self._statements.locked:
            self._gate.run(self._statements.lock(keys))
        return added

    def _let_planner(self, switch: str) -> None:
        for way in ("hashjoin", "mergejoin", "seqscan") if switch != self._planned else ():
            self._gate.run_text(f"SET LOCAL enable_{way} = {switch}", Kind.PLAIN)
        self._planned = switch

    def _commit(self) -> None:
        """After an error COMMIT answers ROLLBACK without raising."""
        if self._raw.info.transaction_status != psycopg.pq.TransactionStatus.INTRANS:
            raise did_not_commit()
        try:
            word = self._control("COMMIT")
        except DatabaseFailed as error:
            cause = error.__cause__
            state = cause.diag.sqlstate if isinstance(cause, psycopg.Error) else None
            if state and not state.startswith(_OF_CONNECTIONS):
                raise did_not_commit(error.message) from error
            raise
        if word != "COMMIT":
            raise did_not_commit()

    def end_look(self, kept: Sequence[KeySet]) -> None:
        """A function may leave large objects or messages in a transaction that cannot write: it is
        rolled back, and what was in the key sets is put back into them."""
        with ExitStack() as open_files:
            waiting: list[tuple[StoredKeys, IO[bytes]]] = []
            for keys in kept:
                if isinstance(keys, StoredKeys) and not self._statements.holding:
                    file: IO[bytes] = open_files.enter_context(SpooledTemporaryFile(_SPOOLED))
                    self._copy(f"COPY pg_temp.{keys.name} TO STDOUT (FORMAT binary)", file.write)
                    waiting.append((keys, file))
            self.rollback()
            for keys, spooled in waiting:
                spooled.seek(0)
                self._copy(
                    f"COPY pg_temp.{keys.name} FROM STDIN (FORMAT binary)", lambda _: None, spooled
                )
                self._gate.run_text(f"ANALYZE pg_temp.{keys.name}", Kind.PLAIN)

    def _copy(
        self, statement: str, write: Callable[[bytes], object], read: IO[bytes] | None = None
    ) -> None:
        with (
            self._gate.translated(),
            self._raw.cursor() as cursor,
            cursor.copy(statement.encode()) as copying,
        ):
            while read and (sent := read.read(_BLOCK)):
                copying.write(sent)
            for block in () if read else copying:
                write(bytes(block))

    def find_transaction(self) -> str:
        return (
            str(self._gate.run_text("SELECT pg_catalog.pg_current_xact_id()").scalar_one())
            if self._has_status
            else ""
        )

    def find_ending(self, transaction: str) -> bool | None:
        if not (transaction and self._has_status):
            return None
        try:
            number = sa.cast(sa.bindparam(None, transaction), Named("xid8"))
            word = self._gate.run(sa.select(sa.func.pg_xact_status(number))).scalar_one()
        except DatabaseFailed:  # a number that this server has not given out yet, or has forgotten
            return None
        return {"committed": True, "aborted": False}.get(str(word))

    def find_lag(self) -> str:
        is_standby = self._gate.run_text("SELECT pg_catalog.pg_is_in_recovery()").scalar_one()
        return "it is a standby, which may lag behind" if is_standby else ""

    @property
    def _has_status(self) -> bool:
        """pg_xact_status() takes the numbers of pg_current_xact_id() from version 13 on."""
        return self._raw.info.server_version >= 130000

    def _rollback(self) -> None:
        if (
            not self._raw.closed
            and self._raw.info.transaction_status != psycopg.pq.TransactionStatus.IDLE
        ):
            self._control("ROLLBACK")

    def _control(self, statement: str) -> str | None:
        """Begin or end a transaction, unprepared. Returns the server's own word for what it did."""
        self._gate.note(statement, Kind.PLAIN)
        with self._gate.translated():
            return self._raw.execute(statement.encode(), prepare=False).statusmessage

    def force_checks(self) -> None:
        self._gate.run_text("SET CONSTRAINTS ALL IMMEDIATE", Kind.PLAIN)

    def _load(self, listed: StoredKeys, batch: list[tuple[Any, ...]]) -> None:
        if self._gate.scribe:
            super()._load(listed, batch)
            return
        columns = ", ".join(f"c{place}" for place in range(len(listed.columns)))
        copy = f"COPY pg_temp.{listed.name} ({columns}) FROM STDIN".encode()
        with self._gate.translated(), self._raw.cursor() as cursor, cursor.copy(copy) as writing:
            for key in batch:
                writing.write_row(key)

    def _create_key_table(self, keys: StoredKeys, *, unique: bool = True) -> None:
        if not self._statements.holding:
            self._gate.make(
                keys.name,
                sa.CreateTableAs(self._statements.make_empty(keys), keys.name, temporary=True),
            )

    def lock_ranked(self, ranking: Ranking) -> None:
        """Rows that go are locked by their deletion; before that only where somebody could let a
        row on them."""
        if self._mode is Mode.WRITE:
            ranked = StoredKeys(ranking.table, ranking.table.identity, ranking.name)
            kept: sa.ColumnElement[bool] = sa.literal_column("place = 1")
            among = [] if self.schema.incoming(ranking.table) else [kept]
            self._gate.run(self._statements.lock(ranked, among))

    def _change(
        self,
        images: KeySet,
        values: dict[str, sa.ColumnElement[Any]],
        only: Sequence[sa.ColumnElement[bool]],
    ) -> int:
        """Where a row goes by its place, an update moves it."""
        if images.table.lasting_keys[:1] == (images.table.identity,):
            return super()._change(images, values, only)
        clause = self._statements.table(images.table)
        new = {clause.c[name]: value for name, value in values.items()}
        return self._follow(images, self._statements.moving(images, new).where(*only))

    def _make_plain_table(self, name: str, cell: sa.ColumnElement[Any]) -> None:
        """A hash index takes texts of any length."""
        text = sa.cast(cell, sa.Text)
        columns = [text.label("value"), text.label("plain"), sa.collate(text, "C").label("mark")]
        number = sa.cast(sa.literal_column("0"), sa.BigInteger).label("number")
        empty = sa.select(number, *columns).where(sa.false())
        self._gate.make(name, sa.CreateTableAs(empty, name, temporary=True))
        self._gate.run_text(f"CREATE INDEX ON pg_temp.{name} USING hash (mark)", Kind.PLAIN)

    def _is_ascii(self, cell: sa.ColumnElement[Any]) -> sa.ColumnElement[bool]:
        text = sa.cast(cell, sa.Text)
        return sa.func.octet_length(sa.func.convert_to(text, "UTF8")) == sa.func.char_length(text)

    def _mark(self, cell: Any) -> sa.ColumnElement[Any]:
        return sa.collate(sa.cast(cell, sa.Text), "C")

    def _ascii_plain(
        self, cell: sa.ColumnElement[Any], same: Same, collation: str
    ) -> sa.ColumnElement[Any]:
        """lower() would go by the locale of the collation, and some collations know no regular
        expressions."""
        text: sa.ColumnElement[Any] = sa.cast(cell, sa.Text)
        text = sa.collate(text, "C") if collation else text
        if Ignored.CASE in same.ignored:
            text = sa.func.translate(text, string.ascii_uppercase, string.ascii_lowercase)
        if Ignored.SPACE in same.ignored:
            text = sa.func.btrim(
                sa.func.regexp_replace(text, r"[\x09-\x0d\x1c-\x20]+", " ", "g"), " "
            )
        return Collated(text, collation) if collation else text

    def rank(self, ranking: Ranking) -> int:
        """Hashing and sorting in memory, where there is some."""
        self._gate.run_text("SET LOCAL work_mem = '256MB'", Kind.PLAIN)
        self._gate.run_text("SET LOCAL jit = off", Kind.PLAIN)
        rows = super().rank(ranking)
        if rows > _LARGE and not self._statements.holding:
            self._gate.run_text(f"ANALYZE pg_temp.{ranking.name}", Kind.PLAIN)
        return rows

    def _gathers(self, table: Table) -> bool:
        return len(table.identity) == 1 and table.column(table.identity[0]).family in _ORDERED

    def _members(self, ranking: Ranking) -> tuple[sa.FromClause, list[sa.ColumnElement[Any]]]:
        """Hashing, and no sorting: the lowest and the highest row of a group come with it, others
        are looked up."""
        grouping = ranking.grouping
        same = self._looked(ranking, ()).subquery(self._statements.own("same"))
        names = [f"s{place}" for place in range(len(grouping.same))]
        shared = [same.c[name] for name in names]
        number, size = sa.func.row_number().over().label("grp"), sa.func.count().label("size")
        ends = [sa.func.min(same.c.c0).label("low"), sa.func.max(same.c.c0).label("high")]
        several = (
            sa.select(*shared, *ends, size, number)
            .group_by(*shared)
            .having(sa.func.count() > sa.text("1"))
        )
        groups = several.cte(self._statements.own("groups")).prefix_with("MATERIALIZED")
        rows = self._looked(ranking, ()).subquery(self._statements.own("rows"))
        left, right = ([clause.c[name] for name in names] for clause in (rows, groups))
        if grouping.nulls_differ:
            alike = sa.and_(*(one == two for one, two in zip(left, right, strict=True)))
        else:
            # Records are equal where their NULLs are too, and can be hashed,
            # which IS NOT DISTINCT FROM cannot.
            one, two = (sa.cast(sa.func.row(*cells), Named("record")) for cells in (left, right))
            alike = one == two
        between = sa.and_(
            rows.c.c0 != groups.c.low, rows.c.c0 != groups.c.high, groups.c.size > sa.text("2")
        )
        others = (
            sa.select(rows.c.c0, groups.c.grp, groups.c.size)
            .select_from(rows.join(groups, alike))
            .where(between)
        )
        found = [
            sa.select(end.label("c0"), groups.c.grp, groups.c.size)
            for end in (groups.c.low, groups.c.high)
        ]
        members = sa.union_all(*found, others).subquery(self._statements.own("members"))
        return members, [members.c.c0, members.c.grp, members.c.size]

    def _is_white(self, cell: sa.ColumnElement[Any]) -> sa.ColumnElement[bool]:
        return sa.func.btrim(sa.cast(cell, sa.Text), WHITE) == sa.literal_column("''")

    def _may_merge(self, table: Table, column: str) -> bool:
        name = table.name
        with self._own_path():
            found = self._gate.run(
                sa.text(_BLIND).bindparams(schema=name.schema, table=name.name, column=column)
            )
            return bool(found.scalar_one())

    def _fill(self, into: StoredKeys, statement: sa.Insert) -> int:
        rows = super()._fill(into, statement)
        if rows > _LARGE and not self._statements.holding:
            self._gate.run_text(f"ANALYZE pg_temp.{into.name}", Kind.PLAIN)
        return rows

    def find_effects(
        self, table: Table, columns: Sequence[str] | None, event: str = "delete"
    ) -> tuple[Effect, ...]:
        """What a trigger does is not known before; `find_changes` tells it afterwards, table by
        table."""
        return ()

    def find_changes(self) -> Changes:
        with self._own_path():
            rows, places = self._gate.read(_CHANGES), self._gate.read(_STORAGE)
        tables = {TableName(row[0], row[1]): TableChanges(row[2], row[3], row[4]) for row in rows}
        for name, lost in self._uncounted.items():
            tables[name] = lost.plus(tables.get(name, TableChanges()))
        storage = {TableName(row[0], row[1]): str(row[2]) for row in places}
        return Changes(sum(one.total for one in tables.values()), tables, storage)

    def truncate(self, table: Table) -> int:
        """The server forgets what it counted for the table in this transaction."""
        before = self.find_changes().of(table)
        done = super().truncate(table)
        self._uncounted.pop(table.name, None)
        self._uncounted[table.name] = before.less(self.find_changes().of(table))
        return done

    def build_index(self, reference: Reference) -> None:
        """Only a table's owner may build an index."""
        name = reference.child.name
        with self._own_path():
            is_owner = self._gate.run(
                sa.text(_OWNER).bindparams(schema=name.schema, table=name.name)
            ).scalar_one()
        if is_owner:
            self._build_index(reference)

    def _count_written(self) -> int:
        return self.find_changes().total if self._mode is Mode.WRITE else 0

    def detach(
        self, reference: Reference, columns: Sequence[str], keys: KeySet, to_default: bool
    ) -> int:
        """Where a row goes by its place, an update moves it: every key set of the table follows."""
        if keys.table.lasting_keys[:1] == (keys.table.identity,):
            return super().detach(reference, columns, keys, to_default)
        defaults = find_defaults(reference.child, columns) if to_default else None
        clause = self._statements.table(keys.table)
        new = {
            clause.c[name]: text
            for name, text in zip(columns, find_values(columns, defaults), strict=True)
        }
        return self._follow(keys, self._statements.moving(keys, new))

    def _follow(self, keys: KeySet, moving: sa.Update) -> int:
        moved = sa.table(
            next(self._names), *map(sa.column, ("c0", "c1", "n0", "n1")), schema="pg_temp"
        )
        self._gate.make(
            moved.name, Words("CREATE TEMPORARY TABLE", moved, "(c0 oid, c1 tid, n0 oid, n1 tid)")
        )
        update = moving.cte(self._statements.own("moved"))
        done = self._gate.run(
            sa.insert(moved).add_cte(update).from_select(moved.c.keys(), sa.select(*update.c))
        )
        for other in self._filled:
            if other.table is keys.table:
                places = self._statements.key_table(other)
                follow = sa.update(places).values(c0=moved.c.n0, c1=moved.c.n1)
                self._gate.run(follow.where(places.c.c0 == moved.c.c0, places.c.c1 == moved.c.c1))
        return done.rowcount

    def find_form(self, column: Column) -> Form:
        if column.type in _NOT_READ_BACK:
            return Form("text", f"PostgreSQL cannot read a {column.type} back")
        if column.family is Family.TEXT and self._setting("server_encoding") == "SQL_ASCII":
            return Form("text", "the database does not know the encoding of its texts")
        return Form(KEPT_AS.get(column.type, "text"))

    def extract(self, pieces: Sequence[Piece], sink: Sink) -> list[int]:
        return [sink.add(piece.portion, self._lines(piece)) for piece in pieces]

    def _lines(self, piece: Piece) -> Iterator[bytes]:
        portion = piece.portion
        cells = [
            self._statements.kept(cell, column)
            for column, cell in self._statements.copied(portion, piece.keys)
        ]
        query = self._sent.write(self._statements.select_copied(portion, piece.keys, cells))
        query = f"COPY ({query}) TO STDOUT"
        self._gate.note(query)
        with (
            self._gate.translated(),
            self._raw.cursor() as cursor,
            cursor.copy(query.encode()) as copying,
        ):
            for line in copying:
                yield bytes(line)

    def _fill_stage(self, stage: Stage, source: Source) -> None:
        """The server reads the texts itself. What a type's own text would not hold comes by another
        type."""
        clause, cells = self._statements.table(stage.table), dict(stage.portion.cells)
        columns = list(cells)
        table = sa.table(stage.name, schema="pg_temp")
        empty = sa.select(*(clause.c[own].label(name) for name, own in cells.items())).where(
            sa.false()
        )
        self._gate.run(Words("CREATE TEMPORARY TABLE", table, "AS", bare(empty)))
        types = {name: stage.table.column(own).type for name, own in cells.items()}
        loaded = table
        if others := {name: type_ for name, type_ in types.items() if type_ in KEPT_AS}:
            loaded = sa.table(next(self._names), schema="pg_temp")
            ways = [
                sa.cast(clause.c[cells[name]], Named(KEPT_AS[types[name]])).label(name)
                for name in others
            ]
            same = [clause.c[own].label(name) for name, own in cells.items() if name not in others]
            self._gate.run(
                Words(
                    "CREATE TEMPORARY TABLE",
                    loaded,
                    "AS",
                    bare(sa.select(*same, *ways).where(sa.false())),
                )
            )
        names = in_brackets([sa.column(name) for name in columns])
        copy = self._sent.write(Words("COPY", loaded, names, "FROM STDIN"))
        self._gate.note(copy)
        with (
            self._gate.translated(),
            self._raw.cursor() as cursor,
            cursor.copy(copy.encode()) as writing,
        ):
            for rows, is_plain in source.rows(stage.portion):
                writing.write(_make_lines(rows, is_plain))
        if loaded is not table:
            read = [
                sa.cast(sa.column(name), Named(types[name])) if name in others else sa.column(name)
                for name in columns
            ]
            self._gate.run(
                Words("INSERT INTO", table, names, bare(sa.select(*read).select_from(loaded)))
            )
        self._gate.run(Words("ANALYZE", table))

    def insert_together(self, stages: Sequence[Stage]) -> list[int]:
        """All in one statement: references are checked when it is done."""
        parts: list[str | sa.ClauseElement] = ["WITH"]
        for place, stage in enumerate(stages):
            parts += [
                f"{', ' if place else ''}yeldro_{place} AS (",
                self._statements.insert_staged(stage),
            ]
            parts.append("RETURNING 1)")
        counts = [
            f"(SELECT pg_catalog.count(*) FROM yeldro_{place})" for place in range(len(stages))
        ]
        return [
            int(count) for count in self._gate.run(Words(*parts, "SELECT", ", ".join(counts))).one()
        ]

    def count_touched(self, table: Table, stages: Sequence[Stage]) -> int:
        """In a transaction with one snapshot no other one that it sees has a number as high as its
        own."""
        rows = self._statements.count(table).where(*self._statements.is_other(table, stages))
        number = sa.cast(sa.func.txid_current() % sa.literal_column("4294967296"), sa.Text)
        own = sa.func.age(sa.cast(number, Named("xid")))
        return self._gate.number(rows.where(sa.func.age(sa.literal_column("xmin")) <= own))

    def advance_counters(self, stages: Sequence[Stage]) -> None:
        """Sequences do not follow values that were given. They are moved forward only, which no
        rollback undoes."""
        for stage in stages:
            name = stage.table.name
            with self._own_path():
                found = self._gate.run(
                    sa.text(_SEQUENCES).bindparams(schema=name.schema, table=name.name)
                ).all()
            for column, sequence, step, last in map(tuple, found):
                if column in stage.portion.columns:
                    staged = self._statements.staged(stage).c[column]
                    end = self._gate.run(
                        sa.select(sa.func.max(staged) if step > 0 else sa.func.min(staged))
                    ).scalar()
                    if end is not None and (end - last) * step > 0:
                        moved = sa.func.setval(
                            sa.cast(sa.cast(sequence, sa.Text), Named("regclass")), int(end)
                        )
                        self._gate.run(sa.select(moved))

    def delete_together(self, key_sets: Sequence[KeySet]) -> int:
        """All in one statement of data-modifying WITH queries: references are checked when it is
        done."""
        parts = [
            self._statements.delete(keys)
            .returning(sa.literal_column("1"))
            .cte(self._statements.own(f"gone_{place}"))
            for place, keys in enumerate(key_sets)
        ]
        counts = [sa.select(sa.func.count()).select_from(part).scalar_subquery() for part in parts]
        row = self._gate.run(sa.select(*counts), Kind.PLAIN).one()
        return sum(int(count) for count in row)


def _make_lines(rows: Sequence[Cells], is_plain: bool) -> str:
    """Rows in the text form of COPY."""
    if not is_plain:
        rows = [
            [cell if cell is None else cell.translate(_ESCAPED) for cell in row] for row in rows
        ]
    return "".join(
        ["\t".join(["\\N" if cell is None else cell for cell in row]) + "\n" for row in rows]
    )


def _as_it_is(value: Any) -> Any:
    return value


def _find_grant(message: str) -> str:
    """What would give the right that is missing."""
    if temporary := re.fullmatch(
        r'permission denied to create temporary tables in database "(.+)"', message
    ):
        return f"GRANT TEMPORARY ON DATABASE {temporary[1]} TO this role would give it."
    found = re.fullmatch(
        r"permission denied for (table|view|schema|sequence|function|database) (.+)", message
    )
    if not found:
        return "Another role may be needed."
    right = {
        "schema": "USAGE",
        "sequence": "USAGE",
        "function": "EXECUTE",
        "database": "TEMPORARY",
    }.get(found[1])
    words = f"{right or 'SELECT'} ON {found[1].upper().replace('VIEW', 'TABLE')} {found[2]}"
    more = "" if right else " A run also needs DELETE, and UPDATE to lock rows (docs/databases.md)."
    return f"GRANT {words} TO this role would give the right to look.{more}"


def _lost() -> DatabaseFailed:
    return DatabaseFailed(
        "The connection to the server was lost.", "What was not committed was rolled back."
    )


def _translate(error: BaseException) -> YeldroError:
    if not isinstance(error, psycopg.Error):
        return DatabaseFailed(f"The database failed ({type(error).__name__}).")
    for kinds, message in _MESSAGES:
        if isinstance(error, kinds):
            return DatabaseFailed(
                message, "Nothing was changed. Look at the preview again, or let --wait be longer."
            )
    state = error.diag.sqlstate or ""
    if state:
        return _translate_state(state, error.diag)
    if isinstance(error, psycopg.OperationalError | psycopg.InterfaceError):
        return _lost()
    return DatabaseFailed(f"An answer of the database could not be read ({type(error).__name__}).")


def _translate_state(state: str, detail: psycopg.errors.Diagnostic) -> YeldroError:
    """By the class of the SQLSTATE
    (https://www.postgresql.org/docs/current/errcodes-appendix.html). Most messages may repeat
    values of rows, so only those of wrong statements and missing rights are shown."""
    message = str(detail.message_primary)
    if state == "42501" or "row-level security" in message:
        return DatabaseFailed(f"The database refused: {message}.", _find_grant(message))
    if state.startswith("42"):
        return BadStatement(message)
    if state.startswith("22"):
        return BadStatement(
            "a value cannot be turned into the type that it is compared with. Days are written "
            "'2024-01-31'."
        )
    if state.startswith("23"):
        where = ", ".join(filter(None, (detail.table_name, detail.constraint_name)))
        return DatabaseFailed(
            f"The database refused: a constraint would be broken ({where}).", "Nothing was changed."
        )
    if state == "P0001":
        return DatabaseFailed(
            "A trigger or function refused with an error of its own.", "Nothing was changed."
        )
    if state.startswith("08"):
        return _lost()
    return DatabaseFailed(f"The database refused (SQLSTATE {state}).", "Nothing was changed.")
