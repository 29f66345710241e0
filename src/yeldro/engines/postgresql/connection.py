"""PostgreSQL, through psycopg 3."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Iterator, Sequence
from contextlib import ExitStack, contextmanager
from functools import cached_property
from tempfile import SpooledTemporaryFile
from typing import IO, TYPE_CHECKING, Any

import psycopg
import sqlalchemy as sa
from psycopg.abc import Buffer
from psycopg.adapt import Loader
from psycopg.types.string import TextLoader

from yeldro.core.database.abilities import Abilities, Effect, Mode, Quirk
from yeldro.core.database.change_counts import Changes, TableChanges
from yeldro.core.database.followers import Sighting
from yeldro.core.database.phase import Phase
from yeldro.core.database.sent import Kind
from yeldro.core.database.space import Space
from yeldro.core.model.address import Address, Link
from yeldro.core.model.key_set import DependentRows, KeyRange, KeySet, StoredKeys, stored
from yeldro.core.model.schema import Column, Family, Reference, ReferentialAction, Table, TableName
from yeldro.core.model.shape import Shape
from yeldro.core.model.values import WrittenFloat
from yeldro.engines.postgresql.calls import PostgresqlJudge
from yeldro.engines.postgresql.catalogue import read_schema
from yeldro.engines.postgresql.compiler import FullCompiler
from yeldro.engines.postgresql.errors import is_answer, translate
from yeldro.engines.postgresql.follower import POSITION, WRITTEN, find_standbys
from yeldro.engines.postgresql.held import as_text
from yeldro.engines.postgresql.link import GuardedConnection, find_arguments
from yeldro.engines.postgresql.settings import ONLY_OURS, PINNED
from yeldro.engines.postgresql.shape import SOME, read_shape, split_names
from yeldro.engines.postgresql.standby_wait import waiting_for_standbys
from yeldro.engines.postgresql.statements import (
    LARGE,
    Named,
    PostgresqlStatements,
)
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
from yeldro.engines.shared.statements import Words, find_defaults, find_values
from yeldro.engines.shared.writer import Writer
from yeldro.errors import DatabaseFailed

if TYPE_CHECKING:
    from yeldro.engines.postgresql.archive import PostgresqlArchive
    from yeldro.engines.postgresql.numbered_keys import PostgresqlNumberedKeys
    from yeldro.engines.postgresql.ranking import PostgresqlRanking
    from yeldro.engines.postgresql.replacing import PostgresqlReplacing

# Of more rows than these the array of their places would take too much of the server's memory.
_MOST_PLACES = 4_000_000
# Bytes that are held in memory before they go to a file, and bytes that are sent at a time.
_SPOOLED, _BLOCK = 1 << 24, 1 << 16
# The types whose values Python holds exactly.
_OF_PYTHON = {"bool", "int2", "int4", "int8", "oid", "float4", "float8", "numeric", "bytea"}
# A standby makes no temporary tables, whatever the rights.
_RIGHTS = """
SELECT pg_catalog.pg_is_in_recovery(),
pg_catalog.has_database_privilege(pg_catalog.current_database(), 'TEMPORARY'),
  pg_catalog.quote_ident(pg_catalog.current_database()::text),
  pg_catalog.quote_ident(current_user::text)"""
# Members of the role that owns a table may build an index on it too.
_OWNER = """
SELECT pg_has_role(relowner, 'USAGE') FROM pg_class JOIN pg_namespace ON relnamespace =
pg_namespace.oid
WHERE nspname = :schema AND relname = :table"""
# The tables whose rows this account may change, and so lock.
_HOLDABLE = sa.text(
    "SELECT n.nspname::text, c.relname::text FROM pg_catalog.pg_class AS c JOIN "
    "pg_catalog.pg_namespace AS n ON n.oid = c.relnamespace WHERE c.relkind IN ('r', 'p') AND "
    f"{SOME} AND pg_catalog.has_table_privilege(c.oid, 'DELETE, UPDATE, TRUNCATE')"
).bindparams(
    sa.bindparam("schemas", type_=sa.ARRAY(sa.Text())),
    sa.bindparam("tables", type_=sa.ARRAY(sa.Text())),
)
_LABELS = """
SELECT enumlabel FROM pg_enum JOIN pg_attribute ON atttypid = enumtypid JOIN pg_class AS c ON c.oid
= attrelid JOIN pg_namespace AS n ON n.oid = relnamespace
WHERE nspname = :schema AND relname = :table AND attname = :column ORDER BY enumsortorder"""
# What this transaction has done so far, by table. Nobody but the server itself can change these
# counts.
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


class _FloatLoader(Loader):
    """A number, or the server's own word for what is none."""

    def load(self, data: Buffer) -> float | str:
        text = bytes(data).decode()
        return text if text in ("NaN", "Infinity", "-Infinity") else WrittenFloat(text)


def open_postgresql(address: Address, mode: Mode, wait: float, link: Link) -> PostgresqlDatabase:
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
    return PostgresqlDatabase(connection, address, mode, wait)


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


class PostgresqlDatabase(SqlDatabase):
    """A connection to one database."""

    dialect = "postgres"
    _path: str | None = None
    """The search path that this role has here."""
    _is_only_here = False
    """Whether a standby that must have what is committed perhaps has not."""
    _usual_limit = 0
    """How many milliseconds a statement may take without us, 0 for any time."""

    statements: PostgresqlStatements
    # One statement checks its references when it is done, so order within a statement does not
    # matter.
    abilities = Abilities(
        tree_rules=frozenset(ReferentialAction),
        cycle_rules=frozenset(ReferentialAction),
        truncates="TRUNCATE can be rolled back here. It runs no DELETE triggers; nobody can use "
        "the table meanwhile.",
        keeps_references=True,
        quirks=frozenset({Quirk.FOLDED_NAMES}),
    )

    def __init__(
        self, connection: sa.Connection, address: Address, mode: Mode, wait: float
    ) -> None:
        raw = connection.connection.driver_connection
        assert isinstance(raw, GuardedConnection)
        self.raw = raw
        self._dialect = connection.dialect

        def is_whole() -> bool:
            return raw.info.transaction_status == psycopg.pq.TransactionStatus.INTRANS

        self.sent = Writer(self._dialect, self.dialect, write_for_postgresql, as_sent=True)
        gate = Gate(connection, translate, is_whole, self._make_writer(""))
        super().__init__(str(address), gate, PostgresqlStatements("pg_temp", _as_it_is))
        self._places: dict[KeySet, str] = {}
        self._holdable: dict[frozenset[TableName], set[TableName]] = {}
        self._wait = wait
        try:
            # Before anything is pinned: what is set on a pooled connection may belong to somebody
            # else.
            self._session = self._find_session()
            if self.setting("default_transaction_read_only") == "on":
                self._only_looks = "default_transaction_read_only"
            self._pin_settings(wait)
            self._find_rights()
            path = self._read_path()
            with self.own_path():
                if mode is Mode.WRITE:
                    self.shape = read_shape(self.gate, None)
                self.schema = read_schema(self.gate, path)
            self.statements.avoid(table.name.name for table in self.schema.tables)
            self._judge_by(PostgresqlJudge(self.gate, self.own_path, self.schema, path))
            # Last, because the catalogue is read with Python's own types.
            self._show_as_written()
        except BaseException:
            self.close()
            raise

    @cached_property
    def ranking(self) -> PostgresqlRanking:
        from yeldro.engines.postgresql.ranking import PostgresqlRanking

        return PostgresqlRanking(self)

    @cached_property
    def numbered(self) -> PostgresqlNumberedKeys:
        from yeldro.engines.postgresql.numbered_keys import PostgresqlNumberedKeys

        return PostgresqlNumberedKeys(self)

    @cached_property
    def replacing(self) -> PostgresqlReplacing:
        from yeldro.engines.postgresql.replacing import PostgresqlReplacing

        return PostgresqlReplacing(self)

    @cached_property
    def archive(self) -> PostgresqlArchive:
        from yeldro.engines.postgresql.archive import PostgresqlArchive

        return PostgresqlArchive(self)

    def _show_as_written(self) -> None:
        """From now on take most values as the texts that the server sends: Python has no infinity,
        BC or year 10000."""
        for kind in list(self.raw.adapters.types):
            if kind.name in ("float4", "float8"):
                self.raw.adapters.register_loader(kind.oid, _FloatLoader)
            oids = [kind.array_oid] if kind.name in _OF_PYTHON else [kind.oid, kind.array_oid]
            for oid in filter(None, oids):
                self.raw.adapters.register_loader(oid, TextLoader)

    def _pin_settings(self, wait: float) -> None:
        """Set each and read it back: a setting that cannot be pinned is an error, not a hope."""
        wanted = {**PINNED, "lock_timeout": f"{max(1, round(wait * 1000))}ms"}
        found = self._read_settings(wanted)
        for name, value in wanted.items():
            if found[name] != value:
                try:
                    self.gate.run(sa.select(sa.func.set_config(name, value, False)))
                except DatabaseFailed as error:
                    raise DatabaseFailed(
                        f"The setting {name} cannot be set to {value}.", error.message
                    ) from error
        # Read back: a role may have a setting that wins over ours.
        found = self._read_settings(PINNED)
        for name, value in PINNED.items():
            if found[name] != value:
                raise DatabaseFailed(f"The setting {name} is not {value}, although it was set.")

    def _read_settings(self, names: Iterable[str]) -> dict[str, str]:
        """All of them at once: asked one by one they would take longer than most commands."""
        listed = list(names)
        cells = ", ".join(f"pg_catalog.current_setting('{name}')" for name in listed)
        row = self.gate.run_text(f"SELECT {cells}").one()
        return dict(zip(listed, map(str, row), strict=True))

    def check_rights(
        self, deleted: Sequence[Table], changed: Sequence[tuple[Table, Sequence[str]]]
    ) -> None:
        """To lock a row takes the right to change it."""
        super().check_rights(deleted, changed)
        parents = {reference.parent for reference in self.schema.acting}
        for table in deleted:
            if table in parents:
                one: sa.Select[Any] = sa.select(sa.literal_column("1")).select_from(
                    self.statements.table(table)
                )
                self._explain(one.where(sa.false()).with_for_update())

    def _find_rights(self) -> None:
        """Without temporary tables one can still look: what would be in them is held here."""
        standby, may, database, role = tuple(self.gate.run_text(_RIGHTS).one())
        if standby or not may:
            lift = f"GRANT TEMPORARY ON DATABASE {database} TO {role} would let it."
            lift = "It is a standby: ask the primary server." if standby else lift
            self.gate.lift = lift
            self.statements.holding = Holding(
                "bigint", {"tableoid": "oid", "ctid": "tid"}, lift, as_text
            )

    def _limit(self, seconds: float | None) -> None:
        """A limit that the role has already stays where it is the shorter one."""
        if seconds is None:
            self.gate.run_text(f"SET SESSION statement_timeout = {self._usual_limit}")
            return
        text = "SELECT setting FROM pg_catalog.pg_settings WHERE name = 'statement_timeout'"
        self._usual_limit = int(self.gate.run_text(text).scalar_one())
        wanted = max(1, round(seconds * 1000))
        limit = min(wanted, self._usual_limit or wanted)
        self.gate.run_text(f"SET SESSION statement_timeout = {limit}")

    def find_labels(self, table: Table, column: Column) -> list[str]:
        found = sa.text(_LABELS).bindparams(
            schema=table.name.schema, table=table.name.name, column=column.name
        )
        with self.own_path():
            return [str(label) for (label,) in self.gate.run(found)]

    def _read_path(self) -> list[str]:
        """The schemas in which a bare name is looked for, behind those of the server itself."""
        rows = self.gate.run_text("SELECT pg_catalog.unnest(pg_catalog.current_schemas(true))")
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
    def own_path(self) -> Iterator[None]:
        """Statements of ours that are written as texts find nothing but what comes with the
        server.
        """
        if self._path is None:
            self._path = self.setting("search_path")
        # Outside of a transaction SET LOCAL would do nothing.
        local = self.gate.in_transaction
        self.gate.run_text(
            f"SET {'LOCAL' if local else 'SESSION'} search_path = pg_catalog, pg_temp", Kind.PLAIN
        )
        yield
        # Not in a `finally`: after an error the transaction is rolled back, and with it the path.
        self.gate.run(sa.select(sa.func.set_config("search_path", self._path, local)), Kind.PLAIN)

    def write_settings(self) -> list[str]:
        return [
            f"SET {name} = '{value}'" for name, value in PINNED.items() if name not in ONLY_OURS
        ]

    def _make_writer(self, leave_out: str) -> Writer:
        return Writer(self._dialect, self.dialect, write_for_postgresql, leave_out)

    def exclude(self, name: str) -> None:
        self._releasing = "SELECT pg_catalog.pg_advisory_unlock_all()"
        # An advisory lock is a number: the name becomes one.
        key = sa.func.hashtextextended(name, sa.literal_column("0"))
        if not self.gate.run(sa.select(sa.func.pg_try_advisory_lock(key))).scalar_one():
            raise under_way()

    def setting(self, name: str) -> str:
        return str(self.gate.run(sa.select(sa.func.current_setting(name))).scalar_one())

    def find_shape(self, tables: Collection[TableName]) -> Shape:
        return read_shape(self.gate, tables)

    def _hold(self, tables: Sequence[Table]) -> None:
        """The lock that a DELETE takes, before the snapshot is taken: nobody adds a column, a
        trigger or a reference until the end. Not on tables of which this account can change no
        row."""
        names = frozenset(table.name for table in tables)
        if names not in self._holdable:
            found = self.gate.run(_HOLDABLE.bindparams(**split_names(names)))
            self._holdable = {names: {TableName(*row) for row in map(tuple, found)}}
        clauses: list[str | sa.ClauseElement] = []
        for table in tables:
            if table.name in self._holdable[names]:
                clauses += [","] if clauses else []
                clauses.append(self.statements.table(table))
        if clauses:
            self.gate.run(Words("LOCK TABLE", *clauses, "IN ROW EXCLUSIVE MODE"))

    def _begin(self, mode: Mode, alone: Sequence[Table], held: Sequence[Table]) -> None:
        self._uncounted: dict[TableName, TableChanges] = {}
        # The settings of the planner go back with every transaction.
        self._planned = "on"
        access = "READ ONLY" if mode is Mode.READ else "READ WRITE"
        self._control(f"BEGIN ISOLATION LEVEL REPEATABLE READ {access}")
        for table in alone:
            # Before the snapshot is taken, because TRUNCATE also removes what the snapshot does not
            # show.
            self.gate.run(
                Words("LOCK TABLE", self.statements.table(table), "IN ACCESS EXCLUSIVE MODE")
            )
        self._hold([table for table in held if table not in alone])
        if mode is Mode.WRITE:
            _ = self._standbys  # asked once, and never in a transaction that has failed
            # Nothing but a lock keeps others from adding rows that depend on ours through an
            # undeclared reference.
            for child in {
                reference.child for reference in self.schema.references if not reference.declared
            }:
                clause = self.statements.table(child)
                self.gate.run(Words("LOCK TABLE", clause, "IN SHARE ROW EXCLUSIVE MODE"))
        self._places.clear()
        parents = {reference.parent for reference in self.schema.acting}
        self.statements.locked = frozenset(parents if mode is Mode.WRITE else ())
        # A read-only transaction could be switched back before its first query.
        if self._find_session() != self._session:
            raise pooled()

    def _find_session(self) -> int:
        return int(self.gate.run_text("SELECT pg_catalog.pg_backend_pid()").scalar_one())

    def close_over(self, reference: Reference, keys: StoredKeys, *, round: int = 0) -> int:
        """A recursive query cannot lock what it finds.

        How many levels there are is unknown to the planner: one look into the index for each row
        costs the same at any depth, while a hash join may scan the whole table once a level.
        """
        self._let_planner("off" if reference.is_indexed else "on")
        added = super().close_over(reference, keys, round=round)
        self._let_planner("on")
        if added and self.statements.locked:
            self.gate.run(self.statements.lock(keys))
        return added

    def find_dependent(self, reference: Reference, parents: KeySet) -> tuple[DependentRows, int]:
        """In a run the rows are looked for once: where they lie is noted for their deletion."""
        child = reference.child
        is_plain = child.kind == "table" and not child.row_security
        notes = self.mode is Mode.WRITE and not self.gate.scribe and not self.statements.holding
        if not notes or not is_plain or not child.parts <= {child.name}:
            return super().find_dependent(reference, parents)
        keys = DependentRows(child, child.identity, reference, stored(parents))
        places = next(self.names)
        rows = self.gate.run(self.statements.find_places(keys, places)).rowcount
        if rows <= _MOST_PLACES:
            self._places[keys] = places
        return keys, rows

    def delete(self, keys: KeySet) -> int:
        """A row that a trigger has changed since lies elsewhere, and is not deleted: then the tally
        does not balance, as it does not where a trigger changes any other row of the reach."""
        if places := self._places.pop(keys, ""):
            return self.gate.run(self.statements.delete_at(keys, places)).rowcount
        return super().delete(keys)

    def _let_planner(self, switch: str) -> None:
        for way in ("hashjoin", "mergejoin", "seqscan") if switch != self._planned else ():
            self.gate.run_text(f"SET LOCAL enable_{way} = {switch}", Kind.PLAIN)
        self._planned = switch

    def _commit(self) -> None:
        """After an error COMMIT answers ROLLBACK without raising."""
        if self.raw.info.transaction_status != psycopg.pq.TransactionStatus.INTRANS:
            raise did_not_commit()
        try:
            word = self._send_commit()
        except DatabaseFailed as error:
            if is_answer(error.__cause__):
                raise did_not_commit(error) from error
            raise
        if word != "COMMIT":
            raise did_not_commit()

    @cached_property
    def _standbys(self) -> str:
        """The names of those that must have what is committed, "" for none."""
        return self.setting("synchronous_standby_names")

    def _send_commit(self) -> str | None:
        if self.mode is not Mode.WRITE or not self._standbys:
            return self._control("COMMIT")

        def tell() -> None:
            self.announce(Phase.WAITING, self._standbys, None)

        with waiting_for_standbys(self.raw, self._wait, tell) as warnings:
            word = self._control("COMMIT")
        self._is_only_here |= any(b"replication" in warning for warning in warnings)
        return word

    @property
    def note(self) -> str:
        alone = (
            "It is committed on this server, and perhaps not on its synchronous standby: the wait "
            "for it was ended."
        )
        return " ".join(filter(None, [super().note, alone if self._is_only_here else ""]))

    def end_look(self, kept: Sequence[KeySet]) -> None:
        """A function may leave large objects or messages in a transaction that cannot write: it is
        rolled back, and what was in the key sets is put back into them."""
        with ExitStack() as open_files:
            waiting: list[tuple[StoredKeys, IO[bytes]]] = []
            for keys in kept:
                if isinstance(keys, StoredKeys) and not self.statements.holding:
                    file: IO[bytes] = open_files.enter_context(SpooledTemporaryFile(_SPOOLED))
                    self._copy(f"COPY pg_temp.{keys.name} TO STDOUT (FORMAT binary)", file.write)
                    waiting.append((keys, file))
            self.rollback()
            for keys, spooled in waiting:
                spooled.seek(0)
                self._copy(
                    f"COPY pg_temp.{keys.name} FROM STDIN (FORMAT binary)", lambda _: None, spooled
                )
                self.gate.run_text(f"ANALYZE pg_temp.{keys.name}", Kind.PLAIN)

    def _copy(
        self, statement: str, write: Callable[[bytes], object], read: IO[bytes] | None = None
    ) -> None:
        with (
            self.gate.translated(),
            self.raw.cursor() as cursor,
            cursor.copy(statement.encode()) as copying,
        ):
            while read and (sent := read.read(_BLOCK)):
                copying.write(sent)
            for rows in () if read else self.raw.read_copy():
                write(rows)

    def find_transaction(self) -> str:
        return (
            str(self.gate.run_text("SELECT pg_catalog.pg_current_xact_id()").scalar_one())
            if self._has_status
            else ""
        )

    def find_ending(self, transaction: str) -> bool | None:
        if not (transaction and self._has_status):
            return None
        try:
            number = sa.cast(sa.bindparam(None, transaction), Named("xid8"))
            word = self.gate.run(sa.select(sa.func.pg_xact_status(number))).scalar_one()
        except DatabaseFailed:  # a number that this server has not given out yet, or has forgotten
            return None
        return {"committed": True, "aborted": False}.get(str(word))

    def find_lag(self) -> str:
        is_standby = self.gate.run_text("SELECT pg_catalog.pg_is_in_recovery()").scalar_one()
        return "it is a standby, which may lag behind" if is_standby else ""

    def find_position(self) -> int:
        with self.own_path():
            ((place,),) = self.gate.read(POSITION)
        return int(place)

    def find_followers(self) -> Sequence[Sighting]:
        with self.own_path():
            return list(find_standbys(self.gate))

    @property
    def _has_status(self) -> bool:
        """pg_xact_status() takes the numbers of pg_current_xact_id() from version 13 on."""
        return self.raw.info.server_version >= 130000

    def _rollback(self) -> None:
        if (
            not self.raw.closed
            and self.raw.info.transaction_status != psycopg.pq.TransactionStatus.IDLE
        ):
            self._control("ROLLBACK")

    def _control(self, statement: str) -> str | None:
        """Begin or end a transaction, unprepared. Returns the server's own word for what it did."""
        self.gate.note(statement, Kind.PLAIN)
        with self.gate.translated():
            return self.raw.execute(statement.encode(), prepare=False).statusmessage

    def force_checks(self) -> None:
        self.gate.run_text("SET CONSTRAINTS ALL IMMEDIATE", Kind.PLAIN)

    def _load(self, listed: StoredKeys, batch: list[tuple[Any, ...]]) -> None:
        if self.gate.scribe:
            super()._load(listed, batch)
            return
        columns = ", ".join(f"c{place}" for place in range(len(listed.columns)))
        copy = f"COPY pg_temp.{listed.name} ({columns}) FROM STDIN".encode()
        with self.gate.translated(), self.raw.cursor() as cursor, cursor.copy(copy) as writing:
            for key in batch:
                writing.write_row(key)

    def create_key_table(self, keys: StoredKeys, *, unique: bool = True) -> None:
        if not self.statements.holding:
            self.gate.make(
                keys.name,
                sa.CreateTableAs(self.statements.make_empty(keys), keys.name, temporary=True),
            )

    def fill(self, into: StoredKeys, statement: sa.Insert) -> int:
        rows = super().fill(into, statement)
        if rows > LARGE and not self.statements.holding:
            if self.mode is Mode.WRITE:  # a transaction that only looks may make no index
                names = [f"c{into.columns.index(name)}" for name in into.table.identity]
                index = f"{into.name}_by ON pg_temp.{into.name} ({', '.join(names)})"
                self.gate.run_text(f"CREATE INDEX IF NOT EXISTS {index}", Kind.PLAIN)
            self.gate.run_text(f"ANALYZE pg_temp.{into.name}", Kind.PLAIN)
        if self.in_batches:
            self.find_span(into)
        return rows

    def find_span(self, keys: StoredKeys) -> None:
        """Between which numbers the keys of a batch lie: of a range that is known the planner does
        not look through the whole table."""
        if isinstance(keys, KeyRange) and keys.span:
            self.statements.spans[keys] = keys.span
            return
        first = keys.table.identity[0]
        is_number = first in keys.table.column_names and len(keys.table.identity) == 1
        if is_number and keys.table.column(first).family is Family.INTEGER:
            cell, *_ = self.statements.key_columns(keys, keys.table.identity)
            ends = sa.select(sa.func.min(cell), sa.func.max(cell))
            found = tuple(self.gate.run(ends).one())
            if found[0] is not None:
                self.statements.spans[keys] = (int(found[0]), int(found[1]))

    def find_effects(
        self, table: Table, columns: Sequence[str] | None, event: str = "delete"
    ) -> tuple[Effect, ...]:
        """What a trigger does is not known before; `find_changes` tells it afterwards, table by
        table."""
        return ()

    def find_changes(self) -> Changes:
        with self.own_path():
            rows, places = self.gate.read(_CHANGES), self.gate.read(_STORAGE)
        tables = {TableName(row[0], row[1]): TableChanges(row[2], row[3], row[4]) for row in rows}
        for name, lost in self._uncounted.items():
            tables[name] = lost.plus(tables.get(name, TableChanges()))
        storage = {TableName(row[0], row[1]): str(row[2]) for row in places}
        return Changes(sum(table.total for table in tables.values()), tables, storage)

    def truncate(self, table: Table, *, restart: bool = False) -> int:
        """The server forgets what it counted for the table in this transaction."""
        before = self.find_changes().of(table)
        numbers = "RESTART IDENTITY" if restart else "CONTINUE IDENTITY"
        self.gate.run(Words("TRUNCATE TABLE", self.statements.table(table), numbers))
        self._uncounted.pop(table.name, None)
        self._uncounted[table.name] = before.less(self.find_changes().of(table))
        return 0

    def measure_log(self) -> int:
        with self.own_path():
            ((written,),) = self.gate.read(WRITTEN)
        return int(written)

    def measure(self, tables: Sequence[Table]) -> Sequence[Space]:
        """A table with its indexes, and its long values that lie elsewhere."""
        found = []
        for table in tables:
            name = self.gate.writer.write(Words(self.statements.table(table)))
            size = sa.func.pg_total_relation_size(sa.func.to_regclass(name))
            found.append(Space(table.label, self.gate.number(sa.select(size))))
        return found

    def _make_analyze(self, tables: Sequence[Table]) -> list[Words]:
        return [Words("ANALYZE", self.statements.table(table)) for table in tables]

    def build_index(self, reference: Reference) -> None:
        """Only a table's owner may build an index."""
        if reference in self._built:
            return
        name = reference.child.name
        with self.own_path():
            is_owner = self.gate.run(
                sa.text(_OWNER).bindparams(schema=name.schema, table=name.name)
            ).scalar_one()
        if is_owner:
            self._build_index(reference)

    def _count_written(self) -> int:
        if self.mode is not Mode.WRITE:
            return 0
        with self.own_path():
            return sum(sum(row[2:5]) for row in self.gate.read(_CHANGES))

    def detach(
        self, reference: Reference, columns: Sequence[str], keys: KeySet, to_default: bool
    ) -> int:
        """Where a row goes by its place, an update moves it: every key set of the table follows."""
        if keys.table.lasting_keys[:1] == (keys.table.identity,):
            return super().detach(reference, columns, keys, to_default)
        defaults = find_defaults(reference.child, columns) if to_default else None
        clause = self.statements.table(keys.table)
        new = {
            clause.c[name]: text
            for name, text in zip(columns, find_values(columns, defaults), strict=True)
        }
        return self.follow(keys, self.statements.moving(keys, new))

    def follow(self, keys: KeySet, moving: sa.Update) -> int:
        moved = sa.table(
            next(self.names), *map(sa.column, ("c0", "c1", "n0", "n1")), schema="pg_temp"
        )
        self.gate.make(
            moved.name, Words("CREATE TEMPORARY TABLE", moved, "(c0 oid, c1 tid, n0 oid, n1 tid)")
        )
        update = moving.cte(self.statements.own("moved"))
        done = self.gate.run(
            sa.insert(moved).add_cte(update).from_select(moved.c.keys(), sa.select(*update.c))
        )
        for other in self._filled:
            if other.table is keys.table:
                places = self.statements.key_table(other)
                follow = sa.update(places).values(c0=moved.c.n0, c1=moved.c.n1)
                self.gate.run(follow.where(places.c.c0 == moved.c.c0, places.c.c1 == moved.c.c1))
        return done.rowcount

    def delete_together(self, key_sets: Sequence[KeySet]) -> int:
        """All in one statement of data-modifying WITH queries: references are checked when it is
        done."""
        parts = [
            self.statements.delete(keys)
            .returning(sa.literal_column("1"))
            .cte(self.statements.own(f"gone_{place}"))
            for place, keys in enumerate(key_sets)
        ]
        counts = [sa.select(sa.func.count()).select_from(part).scalar_subquery() for part in parts]
        row = self.gate.run(sa.select(*counts), Kind.PLAIN).one()
        return sum(int(count) for count in row)


def _as_it_is(value: Any) -> Any:
    return value
