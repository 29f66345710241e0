"""MariaDB (and MySQL) with InnoDB, through PyMySQL."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterator, Sequence
from contextlib import contextmanager, suppress
from functools import cached_property
from typing import TYPE_CHECKING, Any

import pymysql
import pymysql.constants.SERVER_STATUS
import pymysql.cursors
import sqlalchemy as sa
from msgspec.structs import replace

from yeldro.core.cautions.caution import CANNOT_ROLL_BACK
from yeldro.core.database.abilities import Abilities, Effect, Mode, Quirk
from yeldro.core.database.change_counts import Changes
from yeldro.core.database.sent import Kind
from yeldro.core.database.space import Space
from yeldro.core.model.address import Address, Link
from yeldro.core.model.key_set import AlikeRows, KeySet, StoredKeys
from yeldro.core.model.schema import WHOLE_ROW, Reference, Table, TableName
from yeldro.core.model.shape import Shape
from yeldro.core.selection.selection import Selection
from yeldro.engines.mariadb.calls import MariadbJudge
from yeldro.engines.mariadb.catalogue import TRANSACTIONAL, read_routines, read_schema
from yeldro.engines.mariadb.errors import is_answer, translate
from yeldro.engines.mariadb.follower import NODE, find_position
from yeldro.engines.mariadb.held import as_text
from yeldro.engines.mariadb.link import connect
from yeldro.engines.mariadb.settings import PINNED
from yeldro.engines.mariadb.shape import read_shape
from yeldro.engines.mariadb.statements import (
    CreateKeyTable,
    MariadbStatements,
)
from yeldro.engines.mariadb.triggers import Bodies, Written
from yeldro.engines.shared.connection import (
    LONGEST,
    SqlDatabase,
    cannot_connect,
    did_not_commit,
    pooled,
    under_way,
)
from yeldro.engines.shared.gate import Gate
from yeldro.engines.shared.held import DIGEST, Holding
from yeldro.engines.shared.literals import write_for_mariadb
from yeldro.engines.shared.statements import Words
from yeldro.engines.shared.writer import Writer
from yeldro.errors import BadStatement, DatabaseFailed, NotAllowed

if TYPE_CHECKING:
    from yeldro.engines.mariadb.archive import MariadbArchive
    from yeldro.engines.mariadb.numbered_keys import MariadbNumberedKeys
    from yeldro.engines.mariadb.ranking import MariadbRanking
    from yeldro.engines.shared.replacing import SqlReplacing

# Seconds that asking a server to end a statement may take.
_CANCELLING = 1.0
# Settings under which every table must have a primary key.
_DEMANDS = """
SELECT VARIABLE_NAME, VARIABLE_VALUE FROM information_schema.GLOBAL_VARIABLES
WHERE VARIABLE_NAME IN ('INNODB_FORCE_PRIMARY_KEY', 'WSREP_MODE')
  OR VARIABLE_NAME = 'WSREP_ON' AND VARIABLE_VALUE = 'ON'
  OR VARIABLE_NAME = 'WSREP_CERTIFY_NONPK' AND VARIABLE_VALUE = 'OFF'"""
# Of a table in another database, which our own catalogue does not hold.
_ENGINE = sa.text(
    "SELECT ENGINE FROM information_schema.TABLES WHERE TABLE_SCHEMA = :schema AND TABLE_NAME = "
    ":table"
)

_SPACE = sa.text(
    "SELECT TABLE_SCHEMA, TABLE_NAME, coalesce(DATA_LENGTH + INDEX_LENGTH, 0), coalesce(DATA_FREE, "
    "0) FROM information_schema.TABLES WHERE TABLE_SCHEMA IN :schemas"
).bindparams(sa.bindparam("schemas", expanding=True))
# Of a replica and of a node of a cluster.
_REPLICATION = """
SELECT VARIABLE_NAME, VARIABLE_VALUE FROM information_schema.GLOBAL_STATUS
WHERE VARIABLE_NAME IN ('SLAVES_RUNNING', 'WSREP_CLUSTER_SIZE')"""


def open_mariadb(address: Address, mode: Mode, wait: float, link: Link) -> MariadbDatabase:
    """Connect. `wait` is the lock timeout in seconds. DatabaseFailed where the server cannot be
    reached."""
    times = iter([wait or LONGEST])
    engine = sa.create_engine(
        "mysql+pymysql://",
        # The second time is when a statement that was left is ended there, for which nobody wants
        # to wait.
        creator=lambda: connect(address, next(times, _CANCELLING), link),
        poolclass=sa.pool.NullPool,
        isolation_level="AUTOCOMMIT",
        skip_autocommit_rollback=True,
    )
    try:
        connection = engine.connect()
    except (sa.exc.DBAPIError, pymysql.Error) as error:
        found = error.orig if isinstance(error, sa.exc.DBAPIError) else error
        raise cannot_connect(address, str(found.args[-1]) if found and found.args else "") from None
    return MariadbDatabase(connection, address, mode, wait, link)


_COUNTER = (
    "SELECT AUTO_INCREMENT FROM information_schema.TABLES WHERE TABLE_SCHEMA = :schema AND "
    "TABLE_NAME = :name"
)


class MariadbDatabase(SqlDatabase):
    """A connection to one database."""

    dialect = "mysql"
    # References are checked row by row, even within one statement.
    abilities = Abilities(
        frozenset(),
        frozenset(),
        needs_leave_for_cycles=True,
        own_row=False,
        truncates="TRUNCATE commits by itself here: it cannot be rolled back. It runs no DELETE "
        "triggers, and nobody can use the table meanwhile.",
        rolls_back_truncate=False,
        ddl_commits=True,
        indexes_expressions=False,
        shared_index_names=False,
        counts_cascades=False,
        quirks=frozenset({Quirk.TEXTS_AS_NUMBERS, Quirk.QUOTED_TEXTS, Quirk.PIPES_ARE_OR}),
    )
    statements: MariadbStatements

    _counts_key_rows = True
    _alone = False
    _unsure = False
    """Whether rows went with the checks off, after which the engine's word for a reference is not
    enough."""
    _usual_limit = 0.0
    """How many seconds a statement may take without us, 0 for any time."""

    aside = 0
    """Rows that were written to key tables while a run was counted."""

    def __init__(
        self, connection: sa.Connection, address: Address, mode: Mode, wait: float, link: Link
    ) -> None:
        raw: Any = connection.connection.driver_connection
        self.raw = raw
        self._dialect = connection.dialect
        self._unseen: set[Table] = set()
        self._engine, self._thread = connection.engine, int(raw.thread_id())
        gate = Gate(connection, translate, self._is_whole, self._make_writer(""), _count_changed)
        self._name_of_database = address.database
        self.abilities = replace(self.abilities, needless_prefix=address.database)
        super().__init__(
            str(address), gate, MariadbStatements(address.database, lambda value: value)
        )
        try:
            self._check_session(link)
            if self.gate.run_text("SELECT @@SESSION.tx_read_only").scalar_one():
                self._only_looks = "tx_read_only"
            self._pin_settings(wait)
            self._find_rights()
            found = dict(map(tuple, self.gate.read(_DEMANDS)))
            self.statements.demands_keys = found.get(
                "INNODB_FORCE_PRIMARY_KEY"
            ) == "ON" or "REQUIRED_PRIMARY_KEY" in found.get("WSREP_MODE", "")
            # Together: this is a node of a cluster, which certifies rows by their keys only.
            by_keys = {"WSREP_ON", "WSREP_CERTIFY_NONPK"} <= found.keys()
            if "WSREP_ON" in found:
                self.cluster = self._find_cluster()
            if mode is Mode.WRITE:
                self.shape = read_shape(self.gate, None)
            self.schema, self._bodies = read_schema(self.gate, address.database, by_keys=by_keys)
            self.statements.avoid(table.name.name for table in self.schema.tables)
            self._judge_by(MariadbJudge(self.gate, self.schema))
        except BaseException:
            self.close()
            raise

    @cached_property
    def ranking(self) -> MariadbRanking:
        from yeldro.engines.mariadb.ranking import MariadbRanking

        return MariadbRanking(self)

    @cached_property
    def numbered(self) -> MariadbNumberedKeys:
        from yeldro.engines.mariadb.numbered_keys import MariadbNumberedKeys

        return MariadbNumberedKeys(self)

    @cached_property
    def replacing(self) -> SqlReplacing:
        from yeldro.engines.shared.replacing import SqlReplacing

        return SqlReplacing(self)

    @cached_property
    def archive(self) -> MariadbArchive:
        from yeldro.engines.mariadb.archive import MariadbArchive

        return MariadbArchive(self)

    def _check_session(self, link: Link) -> None:
        """What is pinned, locked and kept belongs to one session of the server."""
        self._session = self._find_session()
        if self._session != self._thread and not link.pooled:
            raise pooled()

    def _find_session(self) -> int:
        return int(self.gate.run_text("SELECT CONNECTION_ID()").scalar_one())

    def _pin_settings(self, wait: float) -> None:
        """Set each and read it back: a setting that cannot be pinned is an error, not a hope."""
        wanted = {
            **PINNED,
            "innodb_lock_wait_timeout": max(1, round(wait)),
            "lock_wait_timeout": max(1, round(wait)),
        }
        written = {
            name: f"'{value}'" if isinstance(value, str) else value
            for name, value in wanted.items()
        }
        # All of them at once: one by one they would take longer than most commands.
        self.gate.run_text(
            f"SET {', '.join(f'SESSION {name} = {value}' for name, value in written.items())}"
        )
        row = self.gate.run_text(f"SELECT {', '.join(f'@@SESSION.{name}' for name in wanted)}")
        for (name, value), found in zip(wanted.items(), row.one(), strict=True):
            # The server gives the parts of sql_mode back in an order of its own.
            if set(str(found).split(",")) != set(str(value).split(",")):
                raise DatabaseFailed(f"The setting {name} is not {value}, although it was set.")

    def _find_rights(self) -> None:
        """Without temporary tables one can still look: what would be in them is held here."""
        # Trying is the only way: the grants of roles and of wildcards are not listed in one place.
        name = next(self.names)
        try:
            self.gate.run_text(f"CREATE TEMPORARY TABLE {name} (n INT PRIMARY KEY)")
        except DatabaseFailed:
            user, _, host = str(self.gate.read("SELECT CURRENT_USER()")[0][0]).rpartition("@")
            lift = (
                f"GRANT CREATE TEMPORARY TABLES ON `{self._name_of_database}`.* TO "
                f"'{user}'@'{host}' would let it."
            )
            self.gate.lift = lift
            self.statements.holding = Holding("BIGINT", {WHOLE_ROW: DIGEST}, lift, as_text)
        else:
            self.gate.run_text(f"DROP TEMPORARY TABLE {name}")

    def _limit(self, seconds: float | None) -> None:
        """A limit that the account has already stays where it is the shorter one."""
        if seconds is None:
            self.gate.run_text(f"SET SESSION max_statement_time = {self._usual_limit}")
            return
        text = "SELECT @@SESSION.max_statement_time"
        self._usual_limit = float(self.gate.run_text(text).scalar_one())
        wanted = max(0.001, seconds)
        limit = min(wanted, self._usual_limit or wanted)
        self.gate.run_text(f"SET SESSION max_statement_time = {limit:f}")

    def _make_writer(self, leave_out: str) -> Writer:
        return Writer(self._dialect, self.dialect, write_for_mariadb, leave_out)

    def write_settings(self) -> list[str]:
        wanted = {
            name: PINNED[name]
            for name in ("time_zone", "sql_mode", "foreign_key_checks", "max_sort_length")
        }
        wanted["max_recursive_iterations"] = PINNED["max_recursive_iterations"]
        return [
            "SET NAMES utf8mb4",
            *(f"SET SESSION {name} = {value!r}" for name, value in wanted.items()),
        ]

    def close(self) -> None:
        """A connection that was cut in the middle of a statement leaves the server working on it:
        it is ended there."""
        # The driver gives up waiting, but the server goes on with the statement and its locks.
        cut = not self.raw.open
        super().close()
        if cut:
            with suppress(sa.exc.DBAPIError), self._engine.connect() as other:
                other.exec_driver_sql(f"KILL CONNECTION {self._thread}")

    def exclude(self, name: str) -> None:
        """These locks are the server's: the name of the database belongs to it, within the 64
        letters there are."""
        self._releasing = "DO RELEASE_ALL_LOCKS()"
        own = sa.func.left(
            sa.func.sha1(sa.func.concat(sa.func.database(), name)), sa.literal_column("40")
        )
        if (
            self.gate.run(sa.select(sa.func.get_lock(own, sa.literal_column("0")))).scalar_one()
            != 1
        ):
            raise under_way()

    def _is_whole(self) -> bool:
        """The server tells with every answer whether a transaction is open
        (SERVER_STATUS_IN_TRANS)."""
        return self._alone or bool(
            self.raw.server_status & pymysql.constants.SERVER_STATUS.SERVER_STATUS_IN_TRANS
        )

    def find_shape(self, tables: Collection[TableName]) -> Shape:
        return read_shape(self.gate, tables)

    def _hold(self, tables: Sequence[Table]) -> None:
        """Whoever changes a definition waits for all transactions that have used the table. Not
        where this account cannot even look."""
        seen = [table for table in tables if table.kind == "table" and table not in self._unseen]
        try:
            self._use(seen)
        except (BadStatement, NotAllowed):
            for table in seen:
                try:
                    self._use([table])
                except (BadStatement, NotAllowed):
                    self._unseen.add(table)

    def _use(self, tables: Sequence[Table]) -> None:
        one: sa.ColumnElement[int] = sa.literal_column("1")
        looks = [
            sa.select(one).select_from(self.statements.table(table)).where(sa.false())
            for table in tables
        ]
        if looks:
            self.gate.run(sa.union_all(*looks)).close()

    def _begin(self, mode: Mode, alone: Sequence[Table], held: Sequence[Table]) -> None:
        self._alone = bool(alone)
        for table in alone:  # there is never more than one
            # TRUNCATE commits by itself: only a lock on the table makes the counts before and after
            # belong together.
            self.gate.run(Words("LOCK TABLES", self.statements.table(table), "WRITE"))
            return
        # At REPEATABLE READ what fills a key table locks the rows that it reads, which a preview
        # must not.
        level = "READ COMMITTED" if mode is Mode.READ else "REPEATABLE READ"
        self.gate.run_text(f"SET TRANSACTION ISOLATION LEVEL {level}", Kind.PLAIN)
        self.gate.run_text(
            f"START TRANSACTION {'READ ONLY' if mode is Mode.READ else 'READ WRITE'}", Kind.PLAIN
        )
        if self._find_session() != self._session:
            raise pooled()
        self._hold(held)
        # A DELETE sees the latest data and not the snapshot, so what it goes by must be read so
        # too.
        self.statements.locking = mode is Mode.WRITE

    def _commit(self) -> None:
        if self._alone:
            self._unlock()
            return
        if not self._is_whole():
            raise did_not_commit()
        try:
            self.gate.run_text("COMMIT")
        except DatabaseFailed as error:
            if is_answer(error.__cause__):
                raise did_not_commit(error) from error
            raise
        if self._is_whole():
            raise did_not_commit()

    def find_lag(self) -> str:
        """A node of a cluster is made to catch up first, which is read back."""
        if self.gate.run_text("SELECT @@GLOBAL.read_only").scalar_one():
            return "it is read-only, perhaps a replica that lags behind"
        status = dict(map(tuple, self.gate.run_text(_REPLICATION)))
        if int(status.get("SLAVES_RUNNING") or 0):
            return "it is a replica, which may lag behind"
        if int(status.get("WSREP_CLUSTER_SIZE") or 0):
            self.gate.run_text("SET SESSION wsrep_sync_wait = 15")
            if self.gate.run_text("SELECT @@SESSION.wsrep_sync_wait").scalar_one() != 15:
                return "it is a node of a cluster, which cannot be made to catch up"
        return ""

    def measure_log(self) -> int:
        ((_, written),) = self.gate.read("SHOW GLOBAL STATUS LIKE 'Innodb_lsn_current'")
        return int(written)

    def measure(self, tables: Sequence[Table]) -> Sequence[Space]:
        schemas = sorted({table.name.schema or "" for table in tables})
        found = map(tuple, self.gate.run(_SPACE.bindparams(schemas=schemas)))
        rows = {row[:2]: (int(row[2]), int(row[3])) for row in found}
        return [
            Space(table.label, *rows[place])
            for table in tables
            if (place := (table.name.schema, table.name.name)) in rows
        ]

    def _make_analyze(self, tables: Sequence[Table]) -> list[Words]:
        """Each server of several keeps figures of its own."""
        return [Words("ANALYZE LOCAL TABLE", self.statements.table(table)) for table in tables]

    def _find_cluster(self) -> str:
        """Its name for itself, with the database; "" where there is none but the setting."""
        found = dict(map(tuple, self.gate.read(NODE)))
        uuid = found.get("wsrep_cluster_state_uuid", "") if find_position(found) is not None else ""
        return f"{uuid}/{self._name_of_database}" if uuid else ""

    def find_position(self) -> int | None:
        return find_position(dict(map(tuple, self.gate.read(NODE))))

    def drop_unique(self, table: Table, name: str) -> None:
        self.gate.run(Words("DROP INDEX", sa.table(name), "ON", self.statements.table(table)))

    def _rollback(self) -> None:
        """After an error the state of the transaction is not to be trusted: roll back whatever the
        driver believes."""
        if self.raw.open:
            if self._alone:
                self._unlock()
            self.gate.run_text("ROLLBACK")

    def _unlock(self) -> None:
        self._alone = False
        self.gate.run_text("UNLOCK TABLES")

    def create_key_table(self, keys: StoredKeys, *, unique: bool = True) -> None:
        if self.statements.holding:
            return
        identity = keys.table.identity
        # What references point at is looked up, too. A declared one has an index there already, so
        # its columns can have one.
        others = {
            reference.referred
            for reference in self.schema.incoming(keys.table)
            if reference.declared
            and reference.referred != identity[: len(reference.referred)]
            and set(reference.referred) <= set(keys.columns)
        }
        key, *indexes = (
            [f"c{keys.columns.index(name)}" for name in names]
            for names in (identity if unique else (), *sorted(others))
        )
        empty = self.statements.make_empty(keys)
        self.gate.make(keys.name, CreateKeyTable(keys.name, key, empty, indexes if unique else ()))

    def count_ringed(self, reference: Reference, keys: KeySet, rows: int) -> int:
        return rows - self.gate.number(self.statements.count_leveled(reference, keys))

    def keeps(self, reference: Reference) -> bool:
        return not self._unsure

    def count_left(self, reference: Reference, parents: KeySet) -> int:
        """Where the engine keeps the reference nobody can have added a row, so a plain read, which
        is faster, does."""
        if self._unsure or not (reference.declared and reference.enforced):
            return super().count_left(reference, parents)
        return self.gate.number(self.statements.count_left(reference, parents))

    def find_effects(
        self, table: Table, columns: Sequence[str] | None, event: str = "delete"
    ) -> tuple[Effect, ...]:
        """What the bodies of the triggers name, and the triggers that those set off in turn."""
        effects: dict[tuple[Table, str, str], Effect] = {}
        for trigger, written, _ in self._follow_triggers(
            table, "UPDATE" if columns else event.upper()
        ):
            for one in written:
                if target := self._find_table(one.table):
                    effects[target, one.verb, trigger] = Effect(target, one.verb, trigger)
        return tuple(effects.values())

    def find_lasting(
        self, table: Table, columns: Sequence[str] | None, event: str = "delete"
    ) -> list[str]:
        found: dict[str, None] = {}
        for trigger, written, unread in self._follow_triggers(
            table, "UPDATE" if columns else event.upper()
        ):
            if unread:
                found[
                    f"what the trigger {trigger} writes to cannot be told ({unread} cannot be read)"
                ] = None
            for one in written:
                known = self._find_table(one.table)
                if known and known.kind != "table":
                    found[
                        f"the trigger {trigger} writes to the view {known.label}, which is not "
                        "looked through"
                    ] = None
                if engine := self._find_lasting_engine(one.table):
                    place = f"{one.table.schema}.{one.table.name}"
                    found[
                        f"the trigger {trigger} writes to {place}, whose engine {engine} cannot "
                        "roll back"
                    ] = None
        return list(found)

    def _follow_triggers(
        self, table: Table, event: str
    ) -> Iterator[tuple[str, tuple[Written, ...], str]]:
        """The triggers that a change may set off, each with what it may write to and what of it
        cannot be read."""
        waiting, seen = [(table, event)], set[tuple[Table, str]]()
        while waiting:
            where, event = waiting.pop()
            if (where, event) in seen:
                continue
            seen.add((where, event))
            for trigger in where.triggers:
                if trigger.event.endswith(event):
                    body = self._bodies[where.name][trigger.name]
                    written, unread = self._reader.find_writes(where.name.schema, body)
                    yield trigger.name, written, unread
                    targets = [(self._find_table(one.table), one.verb.upper()) for one in written]
                    waiting += [(target, verb) for target, verb in targets if target]

    @cached_property
    def _reader(self) -> Bodies:
        return Bodies(read_routines(self.gate, {table.name.schema for table in self.schema.tables}))

    def _find_table(self, name: TableName) -> Table | None:
        """Names of tables may ignore case here."""
        if name in self.schema.by_name:
            return self.schema.by_name[name]
        alike = (table for table in self.schema.tables if table.name.folded == name.folded)
        return next(alike, None)

    def _find_lasting_engine(self, name: TableName) -> str:
        """The storage engine of a table, in any database, that cannot roll back; "" where it can or
        is no table."""
        known = self._find_table(name)
        if known and not known.refusal.endswith(CANNOT_ROLL_BACK):
            return ""
        engine = self.gate.run(_ENGINE.bindparams(schema=name.schema, table=name.name)).scalar()
        return "" if engine in (None, *TRANSACTIONAL) else str(engine)

    def find_changes(self) -> Changes:
        return Changes(self.count_writes() - self.aside)

    def _count_written(self) -> int:
        return self.count_writes()

    def count_writes(self) -> int:
        """The session's own counters of rows written, changed and deleted, those of triggers
        included."""
        rows = self.gate.run_text(
            "SELECT VARIABLE_VALUE FROM information_schema.SESSION_STATUS WHERE VARIABLE_NAME IN "
            "('HANDLER_DELETE', 'HANDLER_UPDATE', 'HANDLER_WRITE')"
        )
        return sum(int(row[0]) for row in rows)

    def truncate(self, table: Table, *, restart: bool = False) -> int:
        """The server itself starts its numbers again."""
        name = table.name
        query = sa.text(_COUNTER).bindparams(schema=name.schema, name=name.name)
        following = None if restart else self.gate.run(query).scalar_one_or_none()
        done = super().truncate(table)
        if following:
            clause = self.statements.table(table)
            self.gate.run(Words("ALTER TABLE", clause, f"AUTO_INCREMENT = {int(following)}"))
        return done

    def delete(self, keys: KeySet) -> int:
        """Rows of a tree whose links cannot be NULL go deepest first; with several such links level
        by level."""
        if isinstance(keys, AlikeRows):
            return self._delete_alike(keys)
        outgoing = self.schema.outgoing(keys.table)
        stays = keys.table.shares_identity
        rigid = [
            reference
            for reference in outgoing
            if reference.is_self
            and (stays or not (reference.nullable_columns and reference.is_clearable))
        ]
        done = 0
        if len(rigid) == 1:
            # The engine checks a row as it goes, so a row must go before the one that it points at.
            levels = self._make_key_set(keys.table)
            before = self.count_writes()
            self.fill(levels, self.statements.find_levels(rigid[0], keys, levels))
            self.aside += self.count_writes() - before
            done = self.gate.run(self.statements.delete_deepest_first(levels), Kind.CHANGE).rowcount
        while rigid[1:] and (
            gone := self.gate.run(self.statements.delete_leaves(keys, rigid)).rowcount
        ):
            done += gone
        return done + self._delete_by_keys(keys)

    def delete_selected(self, selection: Selection, keys: KeySet) -> int:
        delete = self.statements.delete_selected(selection, keys)
        return self.gate.run(delete, Kind.CHANGE).rowcount

    def _delete_alike(self, keys: AlikeRows) -> int:
        """Rows that look the same are the same: as many of them go as are surplus, whichever."""
        done = 0
        for mark, rows in map(tuple, self.gate.run(self.statements.count_marks(keys)).all()):
            clause = self.statements.table(keys.table)
            delete = sa.delete(clause).where(
                clause.c[WHOLE_ROW] == sa.bindparam(None, bytes(mark), sa.LargeBinary)
            )
            done += self.gate.run(Words(delete, f"LIMIT {int(rows)}"), Kind.CHANGE).rowcount
        return done

    def fill(self, into: StoredKeys, statement: sa.Insert) -> int:
        """A key of rows that are alike stands for all of them."""
        if not into.table.shares_identity or isinstance(into, AlikeRows):
            return super().fill(into, statement)
        before = self.count_present(into) if into in self._filled else 0
        super().fill(into, statement)
        return self.count_present(into) - before

    def count_union(self, key_sets: Sequence[StoredKeys]) -> int:
        if not key_sets[0].table.shares_identity:
            return super().count_union(key_sets)
        clause = self.statements.count(key_sets[0].table)
        return self.gate.number(
            clause.where(sa.or_(*(self.statements.has_identity(keys) for keys in key_sets)))
        )

    def count_present(self, keys: KeySet) -> int:
        return (
            self.gate.number(self.statements.count_surplus(keys))
            if isinstance(keys, AlikeRows)
            else super().count_present(keys)
        )

    def count_beyond(self, keys: KeySet, *others: KeySet) -> int:
        if isinstance(keys, AlikeRows) and isinstance(others[0], AlikeRows):
            return self.gate.number(self.statements.count_other_marks(keys, others[0]))
        return super().count_beyond(keys, *others)

    def _delete_by_keys(self, keys: KeySet) -> int:
        return self.gate.run(self.statements.delete_by_keys(keys), Kind.CHANGE).rowcount

    @contextmanager
    def unchecked(self) -> Iterator[None]:
        """With the checks off for this connection. Switching them on again validates nothing: our
        anti-joins must."""
        before = self.gate.run_text("SELECT @@SESSION.foreign_key_checks").scalar_one()
        self.gate.run_text("SET SESSION foreign_key_checks = 0", Kind.PLAIN)
        try:
            yield
        finally:
            self.gate.run_text(f"SET SESSION foreign_key_checks = {int(before)}", Kind.PLAIN)

    def delete_together(self, key_sets: Sequence[KeySet]) -> int:
        # With its checks off the engine lets anybody leave rows that point at nothing.
        self._unsure = True
        with self.unchecked():
            return sum(self._delete_by_keys(keys) for keys in key_sets)


def _count_changed(result: sa.CursorResult[Any]) -> int:
    """What ROW_COUNT() would be in a client that counts only rows that an update made different."""
    cursor: Any = result.context.cursor
    message = getattr(cursor._result, "message", b"") or b""
    changed = re.search(rb"Changed: (\d+)", message)
    return int(changed[1]) if changed else int(result.rowcount)
