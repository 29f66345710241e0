"""What all engines do alike: every operation of the core, as a statement sent through the gate."""

from __future__ import annotations

import itertools
import re
from abc import ABC, abstractmethod
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from contextlib import closing, contextmanager, suppress
from functools import cached_property
from typing import TYPE_CHECKING, Any

import sqlalchemy as sa

from yeldro.core.database.abilities import Abilities, Effect, Mode, Row
from yeldro.core.database.change_counts import Changes
from yeldro.core.database.column_profile import ColumnProfile, First, Odd
from yeldro.core.database.connection import T
from yeldro.core.database.followers import Sighting
from yeldro.core.database.phase import Announce, tell_nobody
from yeldro.core.database.sent import Kind, Sent
from yeldro.core.database.space import Space
from yeldro.core.model.address import Address
from yeldro.core.model.key_set import (
    DependentRows,
    KeyRange,
    KeySet,
    StoredKeys,
    find_carried,
    stored,
)
from yeldro.core.model.schema import Column, Family, Reference, Schema, Table, TableName
from yeldro.core.model.shape import Shape
from yeldro.core.model.values import Value
from yeldro.core.selection.condition import Condition
from yeldro.core.selection.grouping import Grouping, Ignored, Same
from yeldro.core.selection.selection import Selection
from yeldro.engines.shared.archive_statements import StageStatements
from yeldro.engines.shared.calls import Judge
from yeldro.engines.shared.gate import Gate
from yeldro.engines.shared.held import HeldTable, write_for_holding
from yeldro.engines.shared.statements import Rows, Words, count_where, find_defaults
from yeldro.engines.shared.temporary_names import Names
from yeldro.engines.shared.writer import Writer
from yeldro.errors import (
    BadStatement,
    ConstraintBroken,
    DatabaseFailed,
    NotCommitted,
    Refused,
    TooLarge,
    UsageError,
    YeldroError,
)

if TYPE_CHECKING:
    from yeldro.engines.shared.archive import SqlArchive
    from yeldro.engines.shared.numbered_keys import SqlNumberedKeys
    from yeldro.engines.shared.ranking import SqlRanking
    from yeldro.engines.shared.replacing import SqlReplacing

# Keys from a file that are sent at a time: enough to be fast, little enough to hold.
_BATCH = 10_000
# A sum over keys modulo a prime: it cannot overflow, and other keys hardly have the same one.
_PRIME = 1_000_003


class SqlDatabase(ABC):
    """A connection. Fulfils `core.database.Database`; an engine adds its settings, catalogue and
    key tables."""

    dialect: str
    abilities: Abilities
    schema: Schema
    encoding = "UTF-8"
    _judge: Judge
    _only_looks = ""
    """The setting that makes every transaction of the session a read-only one."""

    _releasing = ""
    """The statement that lets others exclude the same again, once something is excluded."""

    _keys_put = 0
    """How many keys the last statement put into a key set."""

    in_batches = False
    cluster = ""
    """Whether rows are looked for a few at a time."""

    _counts_key_rows = False
    """Whether rows that go into key tables are among those that `_count_written` counts."""

    def __init__(self, name: str, gate: Gate, statements: StageStatements) -> None:
        self.name = self.title = name
        self.gate = gate
        self.statements = statements
        self.announce: Announce = tell_nobody
        self.names = Names()
        self._spare: dict[tuple[Table, tuple[str, ...]], list[StoredKeys]] = {}
        self._built: dict[Reference, sa.TableClause] = {}
        self._filled: set[StoredKeys] = set()
        self.mode: Mode | None = None
        self.shape: Shape = {}

    # Parts that not every command needs are imported where they are used for the first time.

    @property
    @abstractmethod
    def ranking(self) -> SqlRanking: ...

    @cached_property
    def numbered(self) -> SqlNumberedKeys:
        from yeldro.engines.shared.numbered_keys import SqlNumberedKeys

        return SqlNumberedKeys(self)

    @property
    @abstractmethod
    def replacing(self) -> SqlReplacing: ...

    @property
    @abstractmethod
    def archive(self) -> SqlArchive: ...

    def _judge_by(self, judge: Judge) -> None:
        self._judge, self.statements.judge = judge, judge.check

    def allow_functions(self, names: Iterable[str]) -> None:
        self._judge.allowed = frozenset(name.lower() for name in names)

    @property
    def note(self) -> str:
        if not (self.statements.holding and self.statements.holds):
            return ""
        told = (
            "This account makes no temporary tables here: keys were held by Yeldro meanwhile, "
            "which is slower."
        )
        return f"{told} {self.statements.holding.lift}"

    def check_rights(
        self, deleted: Sequence[Table], changed: Sequence[tuple[Table, Sequence[str]]]
    ) -> None:
        """To explain a statement takes the rights that running it does."""
        for table in deleted:
            self._explain(sa.delete(self.statements.table(table)).where(sa.false()))
        for table, columns in changed:
            clause = self.statements.table(table)
            self._explain(
                sa.update(clause)
                .values({clause.c[name]: sa.null() for name in columns})
                .where(sa.false())
            )

    def _explain(self, statement: sa.ClauseElement) -> None:
        """As a text: what comes before it is no part of the statement."""
        self.gate.run_text(f"EXPLAIN {self.gate.writer.write(statement)}").close()

    def record(self, journal: Callable[[str], None] | None) -> None:
        self.gate.journal = journal

    def transcribe(self, scribe: Callable[[Sent], None] | None) -> None:
        self.gate.scribe = scribe

    def write_for_people(self) -> None:
        tables = [table.name for table in self.schema.tables]
        taken = {name.name.lower() for name in tables}
        self.names.show(taken)
        prefix = self.abilities.needless_prefix
        # Where it is the name of a table too, it may mean that in a condition.
        self.gate.writer = self._make_writer("" if prefix.lower() in taken else prefix)

    @abstractmethod
    def _make_writer(self, leave_out: str) -> Writer: ...

    @abstractmethod
    def write_settings(self) -> list[str]: ...

    def close(self) -> None:
        """A connection that was cut has nothing left to close."""
        releasing, self._releasing = self._releasing, ""
        if releasing:
            # A server notices only after a while that a connection was closed.
            with suppress(YeldroError, sa.exc.DBAPIError, self.gate.driver_errors):
                self.gate.run_text(releasing)
        with suppress(sa.exc.DBAPIError, self.gate.driver_errors):
            self.gate.connection.close()

    @abstractmethod
    def exclude(self, name: str) -> None: ...

    @contextmanager
    def limited(self, seconds: float) -> Iterator[None]:
        self._limit(seconds)
        try:
            yield
        except YeldroError:
            # Who goes on after it must not go on under our limit. A lost connection has none.
            with suppress(YeldroError):
                self._limit(None)
            raise
        # Not in a `finally`: after an interrupt the connection is not used any more.
        self._limit(None)

    @abstractmethod
    def _limit(self, seconds: float | None) -> None:
        """How long a statement may take from now on; None for as long as it did before."""

    # Transactions

    def begin(self, mode: Mode, alone: Sequence[Table] = (), held: Sequence[Table] = ()) -> None:
        if mode is Mode.WRITE and self._only_looks:
            raise DatabaseFailed(
                f"This session only looks: {self._only_looks} is set for it.",
                "A run would change rows.",
            )
        if mode is Mode.WRITE and self.statements.holding:
            reason = (
                "This account may make no temporary tables here, or nothing at all, so it can only "
                "look."
            )
            raise DatabaseFailed(reason, self.statements.holding.lift)
        self._begin(mode, alone, held)
        self.mode = mode
        self.gate.in_transaction = True

    def commit(self) -> None:
        self.drop_indexes()
        self.gate.in_transaction = False
        try:
            self._commit()
        except YeldroError:
            self.rollback()
            raise
        self.mode = None

    def end_look(self, kept: Sequence[KeySet]) -> None:
        """Where a transaction cannot write, a commit leaves nothing but what is in our own
        temporary tables."""
        if any(isinstance(keys, StoredKeys) for keys in kept):
            self.commit()
        else:
            self.rollback()

    def find_transaction(self) -> str:
        return ""

    def find_version(self) -> int | None:
        return None

    def find_ending(self, transaction: str) -> bool | None:
        return None

    def find_lag(self) -> str:
        return ""

    def find_position(self) -> int | None:
        return None

    def find_followers(self) -> Sequence[Sighting]:
        return ()

    def drop_unique(self, table: Table, name: str) -> None:
        self.gate.run(Words("DROP INDEX", sa.table(name, schema=table.name.schema)))

    def rollback(self) -> None:
        self.gate.in_transaction = False
        self.mode = None
        self._built.clear()
        self._rollback()

    @abstractmethod
    def _begin(self, mode: Mode, alone: Sequence[Table], held: Sequence[Table]) -> None: ...

    @abstractmethod
    def find_shape(self, tables: Collection[TableName]) -> Shape: ...

    @abstractmethod
    def _commit(self) -> None: ...

    @abstractmethod
    def _rollback(self) -> None: ...

    def force_checks(self) -> None:
        """Nothing is checked late unless an engine says so."""

    # Looking

    def count_rows(self, table: Table) -> int:
        return self.gate.number(self.statements.count_all(table))

    def profile(self, table: Table) -> list[ColumnProfile]:
        looks = dict.fromkeys(table.column_names, 4)
        if not self._can_profile(table, looks):
            looks = {name: self._find_looks(table, name) for name in table.column_names}
        rows, *cells = tuple(self.gate.run(self.statements.profile(table, looks)).one())
        waiting = iter(cells)
        found = []
        for number in looks.values():
            known = [*itertools.islice(waiting, number), None, None, None]
            found.append(ColumnProfile(rows - known[0], known[1], known[2], known[3]))
        return found

    def _find_looks(self, table: Table, name: str) -> int:
        """How much the type of a column has of: a count, a count of different values, and
        extremes.
        """
        return next(
            looks for looks in (4, 2, 1) if looks == 1 or self._can_profile(table, {name: looks})
        )

    def _can_profile(self, table: Table, looks: Mapping[str, int]) -> bool:
        statement = self.statements.profile(table, looks).where(sa.false())
        with suppress(BadStatement):
            self.attempt(lambda: self.gate.run(statement).one())
            return True
        return False

    def find_odd(self, table: Table) -> dict[str, dict[Odd, int]]:
        clause = self.statements.table(table)
        looks = [
            (column, *one)
            for column in table.columns
            for one in self._odd(column, clause.c[column.name])
        ]
        if not looks:
            return {}
        counts = [count_where(test) for _, _, test in looks]
        found: dict[str, dict[Odd, int]] = {}
        row = self.gate.run(sa.select(*counts).select_from(clause)).one()
        for (column, kind, _), rows in zip(looks, row, strict=True):
            if rows:
                found.setdefault(column.name, {})[kind] = int(rows)
        return found

    def write_odd(self, table: Table) -> list[tuple[str, Odd, str]]:
        clause = self.statements.table(table)
        return [
            (column.name, kind, self.gate.writer.write(test))
            for column in table.columns
            for kind, test in self._odd(column, clause.c[column.name])
            if kind is not Odd.BLANK
        ]

    def _odd(
        self, column: Column, cell: sa.ColumnElement[Any]
    ) -> Iterator[tuple[Odd, sa.ColumnElement[bool]]]:
        """The tests for what a column should not hold. An engine with types needs only one."""
        if column.family is Family.TEXT:
            yield Odd.BLANK, self.ranking.is_white(cell)

    def count_distinct(self, table: Table, columns: Sequence[str]) -> int:
        return self.gate.number(self.statements.count_distinct(table, columns))

    def count_by_prefix(
        self, table: Table, column: str, length: int, keys: KeySet | None
    ) -> dict[str, int]:
        rows = self.gate.run(self.statements.count_by_prefix(table, column, length, keys))
        return {str(prefix or ""): int(number) for prefix, number in map(tuple, rows)}

    def count_fitting(
        self, child: Table, column: str, parent: Table, referred: str
    ) -> tuple[int, int]:
        distinct, fitting = tuple(
            self.gate.run(self.statements.count_fitting(child, column, parent, referred)).one()
        )
        return int(distinct), int(fitting)

    def first_rows(self, table: Table, limit: int) -> list[Row]:
        return [tuple(row) for row in self.gate.run(self.statements.first(table, limit))]

    def sample(self, keys: KeySet, columns: Sequence[str], limit: int | None) -> Iterator[Row]:
        return self.gate.stream(self.statements.sample(keys, columns, limit))

    def find_missing(self, listed: StoredKeys, limit: int) -> tuple[int, list[Row]]:
        return self._find_listed(listed, self.statements.find_missing(listed), limit)

    def find_repeated(self, listed: StoredKeys, limit: int) -> tuple[int, list[Row]]:
        return self._find_listed(listed, self.statements.find_repeated(listed), limit)

    def count_found(self, listed: StoredKeys) -> int:
        return self.gate.number(self.statements.count_found(listed))

    def list_misses(self, listed: StoredKeys) -> Iterator[tuple[str, Row]]:
        ordered = self.statements.key_columns(listed, listed.columns)
        for word, rows in (
            ("missing", self.statements.find_missing(listed)),
            ("repeated", self.statements.find_repeated(listed)),
        ):
            for row in self.gate.stream(rows.order_by(*ordered)):
                yield word, row

    def _find_listed(self, listed: StoredKeys, wanted: Rows, limit: int) -> tuple[int, list[Row]]:
        first = wanted.order_by(*self.statements.key_columns(listed, listed.columns)).limit(limit)
        count = self.gate.number(sa.select(sa.func.count()).select_from(wanted.subquery()))
        return count, [tuple(row) for row in self.gate.run(first)] if count else []

    def count_nulls(self, table: Table, columns: Sequence[str], keys: KeySet | None) -> int:
        return self.gate.number(self.statements.count_nulls(table, columns, keys))

    def count_ties(self, selection: Selection, keys: KeySet) -> int:
        return self.gate.number(self.statements.count_ties(selection, keys))

    def count_filled(self, keys: KeySet, columns: Sequence[str]) -> list[int]:
        return self._numbers(self.statements.count_filled(keys, columns))

    def count_steps(self, table: Table, conditions: Sequence[Condition]) -> list[int]:
        return self._numbers(self.statements.count_steps(table, conditions))

    def count_each(self, selection: Selection, conditions: Sequence[Condition]) -> list[int]:
        return self._numbers(self.statements.count_each(selection, conditions))

    def count_values(self, selection: Selection, columns: Sequence[str]) -> list[int]:
        return self._numbers(self.statements.count_values(selection, columns))

    def _numbers(self, statement: sa.Executable) -> list[int]:
        return [int(number) for number in self.gate.run(statement).one()]

    def count_selected(self, selection: Selection) -> int:
        rows = self.statements.count(selection.table)
        return self.gate.number(rows.where(*self.statements.is_selected(selection)))

    def find_key_at(self, table: Table, place: int) -> str | None:
        clause = self.statements.table(table)
        rows = sa.select(clause.c[table.key[0]]).order_by(*(clause.c[name] for name in table.key))
        found = self.gate.run(rows.offset(place).limit(1)).scalar_one_or_none()
        return None if found is None else str(found)

    def find_values(
        self, table: Table, column: Column, condition: Condition | None, first: First, limit: int
    ) -> list[tuple[Any, int]]:
        statement = self.statements.find_values(table, column, condition, first, limit)
        with suppress(BadStatement):
            found: list[Any] = self.attempt(lambda: list(self.gate.run(statement)))
            return [(value, int(rows)) for value, rows in found]
        return []

    def find_labels(self, table: Table, column: Column) -> list[str]:
        """As MariaDB writes the type; elsewhere such types are no types of columns."""
        return re.findall(r"'((?:[^']|'')*)'", column.type) if column.type[:5] == "enum(" else []

    def write_name(self, name: str) -> str:
        return self.gate.connection.dialect.identifier_preparer.quote(name)

    def try_count(self, table: Table, condition: Condition) -> int | None:
        fragment = self.statements.fragment(condition)
        return self.try_to_count(self.statements.count(table).where(fragment))

    def try_number(self, expression: Condition) -> int | None:
        return self.try_to_count(
            sa.select(sa.type_coerce(self.statements.fragment(expression), sa.Integer))
        )

    def try_to_count(self, statement: sa.Executable) -> int | None:
        """The number that a query gives, None where the database cannot run it."""
        with suppress(BadStatement, ConstraintBroken):
            return self.attempt(lambda: self.gate.number(statement))
        return None

    def attempt(self, work: Callable[[], T]) -> T:
        name = next(self.names)  # one may stand inside another, and MariaDB knows a name once
        self.gate.run_text(f"SAVEPOINT {name}")
        try:
            result = work()
        except YeldroError:
            self.gate.run_text(f"ROLLBACK TO SAVEPOINT {name}")
            raise
        # Not in a `finally`: after an interrupt it would fail, and hide the interrupt.
        self.gate.run_text(f"RELEASE SAVEPOINT {name}")
        return result

    def find_spellings(self, keys: KeySet, column: str, limit: int) -> list[str]:
        rows = self.gate.run(self.statements.find_spellings(keys, column, limit))
        return [str(row[0]) for row in rows if row[0] is not None]

    def sum_keys(self, keys: KeySet) -> int:
        (cell,) = self.statements.key_columns(keys, keys.table.identity[:1])
        return self.gate.number(sa.select(sa.func.sum(cell % sa.literal_column(str(_PRIME)))))

    def count_ends(self, keys: KeySet) -> int:
        (cell,) = self.statements.key_columns(keys, keys.table.identity[:1])
        ends = [
            self.gate.run(sa.select(cell).order_by(way).limit(1)).scalar_one()
            for way in (cell, cell.desc())
        ]
        same = sa.or_(*(cell == sa.bindparam(None, end) for end in ends))
        return self.gate.number(
            sa.select(sa.func.count()).select_from(self.statements.key_table(keys)).where(same)
        )

    # Key sets

    def load_keys(
        self, table: Table, columns: Sequence[str], keys: Iterable[tuple[Value, ...]]
    ) -> StoredKeys:
        listed = StoredKeys(table, tuple(columns), self.names.of(table))
        self.create_key_table(listed, unique=False)
        waiting = iter(keys)
        while batch := list(itertools.islice(waiting, _BATCH)):
            held = self.statements.key_table(listed)
            if isinstance(held, HeldTable):
                held.add(
                    (*(None if value is None else _write_value(value) for value in key), "0")
                    for key in batch
                )
            else:
                self._load(listed, [tuple(map(self.statements.adapt, key)) for key in batch])
        return listed

    def _load(self, listed: StoredKeys, batch: list[tuple[Any, ...]]) -> None:
        named = [
            {"round": 0, **{f"c{place}": value for place, value in enumerate(key)}} for key in batch
        ]
        self.gate.run_many(self.statements.load(listed), named)

    def prepare_key_sets(self, tables: Sequence[Table], new: Sequence[str] = ()) -> None:
        """A read-only transaction may fill temporary tables, but not make them."""
        for table in tables:
            self._spare.setdefault((table, tuple(new)), []).append(self._make_key_set(table, new))

    def make_key_set(self, table: Table, new: Sequence[str] = ()) -> StoredKeys:
        spare = self._spare.get((table, tuple(new)))
        return spare.pop() if spare else self._make_key_set(table, new)

    def _make_key_set(self, table: Table, new: Sequence[str] = ()) -> StoredKeys:
        keys = StoredKeys(
            table, find_carried(self.schema, table), self.names.of(table), new=tuple(new)
        )
        self.create_key_table(keys)
        return keys

    @abstractmethod
    def create_key_table(self, keys: StoredKeys, *, unique: bool = True) -> None:
        """Make an empty key table. Only a list of keys from outside may hold one twice."""

    def match(self, selection: Selection, into: StoredKeys) -> int:
        statement = self.statements.match(selection, into)
        return self._select(selection, lambda: self.fill(into, statement))

    def match_all(self, selection: Selection, listed: KeyRange) -> bool:
        statement = self.statements.count_matching(selection)
        matched = self._select(selection, lambda: self.gate.number(statement))
        return matched == listed.last - listed.first + 1

    def _select(self, selection: Selection, send: Callable[[], int]) -> int:
        """Send what asks for the selected rows. Refused where that changed any."""
        before, self._keys_put = self._count_written(), 0
        try:
            matched = send()
        except BadStatement as error:
            conditions = "; ".join(condition.text for condition in selection.conditions)
            what = "condition" if conditions else "selection"
            raise UsageError(
                f"The database cannot run the {what}: {error.message}", conditions
            ) from error
        own = self._keys_put if self._counts_key_rows and not self.statements.holding else 0
        if self._count_written() != before + own:
            raise Refused(
                "The condition changed rows: a function in it writes.",
                "A condition may only look at rows.",
            )
        return matched

    def _count_written(self) -> int:
        """Rows written so far by what a condition may call. Where a condition cannot write, nothing
        is counted."""
        return 0

    def pull(
        self,
        reference: Reference,
        parents: KeySet,
        into: StoredKeys,
        *,
        round: int = 0,
        since: int | None = None,
        without: Sequence[KeySet] = (),
        within: StoredKeys | None = None,
    ) -> int:
        others = (into, *without) if into in self._filled else without
        statement = self.statements.pull(reference, parents, into, round, since, others, within)
        return self.fill(into, statement)

    def close_over(self, reference: Reference, keys: StoredKeys, *, round: int = 0) -> int:
        return self.fill(keys, self.statements.close_over(reference, keys, round))

    def fill(self, into: StoredKeys, statement: sa.Insert) -> int:
        """Send a statement that fills a key set. Returns how many rows it put in."""
        self._filled.add(into)
        table = self.statements.key_table(into)
        self._keys_put = (
            self.hold(table, statement) if isinstance(table, HeldTable) else self._send(statement)
        )
        return self._keys_put

    def forget_key_sets(self, names: Collection[str]) -> None:
        """Their tables are gone."""
        self._filled = {keys for keys in self._filled if keys.name not in names}

    def _send(self, statement: sa.Insert) -> int:
        return self.gate.run(statement).rowcount

    def hold(self, table: HeldTable, statement: sa.Insert) -> int:
        """What a statement would put into a table of ours, fetched."""
        rows: Any = statement.select
        return table.add(map(tuple, self.gate.run(write_for_holding(rows, table))))

    def count_referencing(
        self, reference: Reference, parents: KeySet, without: KeySet | None
    ) -> int:
        return self.gate.number(self.statements.count_referencing(reference, parents, without))

    def count_most_referencing(self, reference: Reference, parents: KeySet) -> int:
        rows = self.gate.run(self.statements.count_most_referencing(reference, parents)).first()
        return int(rows[0]) if rows else 0

    def find_dependent(self, reference: Reference, parents: KeySet) -> tuple[DependentRows, int]:
        keys = DependentRows(reference.child, reference.child.identity, reference, stored(parents))
        return keys, self.count_present(keys)

    def count_ringed(self, reference: Reference, keys: KeySet, rows: int) -> int:
        """One statement may delete rows together with those that they point at, so nothing is in
        the way."""
        return 0

    def has_referencing(self, reference: Reference, parents: KeySet) -> bool:
        return (
            self.gate.run(self.statements.has_referencing(reference, parents)).first() is not None
        )

    def default_has_parent(self, reference: Reference, gone: KeySet | None) -> bool:
        defaults = find_defaults(reference.child, reference.columns)
        if any(
            self.gate.run(sa.select(sa.literal_column(text))).scalar_one() is None
            for text in defaults
        ):
            return True
        return self.gate.number(self.statements.default_parent(reference, defaults, gone)) > 0

    def merge(self, keys: KeySet, into: StoredKeys) -> int:
        return self.fill(into, self.statements.merge(keys, into))

    def count_whole_groups(self, keys: KeySet, columns: Sequence[str]) -> int:
        return self.gate.number(self.statements.count_whole_groups(keys, columns))

    def count_union(self, key_sets: Sequence[StoredKeys]) -> int:
        return self.gate.number(self.statements.count_union(key_sets))

    def count_beyond(self, keys: KeySet, *others: KeySet) -> int:
        return self.gate.number(self.statements.count_beyond(keys, others))

    # Changing

    @abstractmethod
    def find_effects(
        self, table: Table, columns: Sequence[str] | None, event: str = "delete"
    ) -> tuple[Effect, ...]: ...

    def find_lasting(
        self, table: Table, columns: Sequence[str] | None, event: str = "delete"
    ) -> list[str]:
        """In an engine whose tables can all roll back there is nothing of the kind."""
        return []

    @abstractmethod
    def find_changes(self) -> Changes: ...

    def build_index(self, reference: Reference) -> None:
        """An engine on which every reference has an index builds none."""

    def add_unique(self, grouping: Grouping, name: str, *, blanks_stay: bool = False) -> None:
        statement = self._make_unique(grouping, name, blanks_stay=blanks_stay)
        if blanks_stay:  # a definition takes no parameters
            self.gate.run_text(self.gate.writer.write(statement), Kind.CHANGE)
        else:
            self.gate.run(statement)

    def write_unique(self, grouping: Grouping, name: str, *, blanks_stay: bool = False) -> str:
        return self.gate.writer.write(self._make_unique(grouping, name, blanks_stay=blanks_stay))

    def _make_unique(self, grouping: Grouping, name: str, *, blanks_stay: bool) -> Words:
        table = grouping.table
        index = sa.table(name, schema=table.name.schema)
        cells = [cell for part in grouping.same for cell in self._unique_cells(grouping, part)]
        statement = self.statements.build_index(index, table, cells, unique=True)
        if not blanks_stay:
            return statement
        clause = self.statements.table(table)
        texts = [
            clause.c[part.column]
            for part in grouping.same
            if part.column and table.column(part.column).family is Family.TEXT
        ]
        filled = sa.and_(*(sa.not_(self.ranking.is_white(cell)) for cell in texts))
        return Words(*statement.parts, "WHERE", sa.sql.elements.Grouping(filled))

    def _unique_cells(self, grouping: Grouping, part: Same) -> Iterator[sa.ColumnElement[Any]]:
        """What stands in a unique index for a part of what makes rows the same."""
        cell: Any = self.statements.table(grouping.table).c.get(part.column)
        if part.expression:
            cell = self.statements.fragment(part.expression)
        column = grouping.table.column(part.column) if part.column else None
        if Ignored.SPACE in part.ignored:
            cell = sa.func.trim(cell)
        if Ignored.CASE in part.ignored:
            cell = sa.func.lower(cell)
        if grouping.nulls_differ or column is None or not column.nullable:
            yield cell
            return
        # NULLs are distinct in an index: a value stands for them, beside the word for it.
        nothing: Any = sa.literal_column(_NOTHING.get(column.family, "''"))
        yield sa.sql.elements.Grouping(cell.is_(None))
        yield sa.func.coalesce(cell, nothing)

    def drop_indexes(self) -> None:
        for index in self._built.values():
            self.gate.run(Words("DROP INDEX", index))
        self._built.clear()

    def _build_index(self, reference: Reference) -> None:
        index = sa.table(next(self.names), schema=reference.child.name.schema)
        self.gate.run(
            self.statements.build_index(index, reference.child, self.statements.pointing(reference))
        )
        self._built[reference] = index

    def delete(self, keys: KeySet) -> int:
        return self.gate.run(self.statements.delete(keys)).rowcount

    def delete_selected(self, selection: Selection, keys: KeySet) -> int:
        return self.gate.run(self.statements.delete_selected(selection, keys)).rowcount

    @abstractmethod
    def delete_together(self, key_sets: Sequence[KeySet]) -> int: ...

    def truncate(self, table: Table, *, restart: bool = False) -> int:
        self.gate.run(Words("TRUNCATE TABLE", self.statements.table(table)))
        return 0

    def gives_again(self, keys: KeySet) -> bool:
        return False

    def detach(
        self, reference: Reference, columns: Sequence[str], keys: KeySet, to_default: bool
    ) -> int:
        defaults = find_defaults(reference.child, columns) if to_default else None
        return self.gate.run(self.statements.detach(columns, keys, defaults)).rowcount

    def unlink(self, reference: Reference, keys: KeySet) -> int:
        return self.gate.run(self.statements.unlink(reference, keys)).rowcount

    def measure_log(self) -> int | None:
        return None

    # Afterwards

    @abstractmethod
    def measure(self, tables: Sequence[Table]) -> Sequence[Space]: ...

    def write_analyze(self, tables: Sequence[Table]) -> Sequence[str]:
        return [self.gate.writer.write(one) for one in self._make_analyze(tables)]

    def analyze(self, tables: Sequence[Table]) -> None:
        for one in self._make_analyze(tables):
            with closing(self.gate.run(one)):
                pass

    @abstractmethod
    def _make_analyze(self, tables: Sequence[Table]) -> list[Words]: ...

    # Checking

    def keeps(self, reference: Reference) -> bool:
        return not reference.late

    def count_present(self, keys: KeySet) -> int:
        return self.gate.number(self.statements.count_present(keys))

    def count_left(self, reference: Reference, parents: KeySet) -> int:
        return self.count_referencing(reference, parents, None)

    def count_lost(self, reference: Reference, parents: KeySet) -> int:
        rows = self.statements.count_referencing(reference, parents, None)
        return self.gate.number(rows.where(self.statements.lacks_parent(reference)))

    def count_detached(
        self, reference: Reference, columns: Sequence[str], keys: StoredKeys, to_default: bool
    ) -> int:
        defaults = find_defaults(reference.child, columns) if to_default else None
        return self.gate.number(self.statements.count_detached(columns, keys, defaults))

    def count_dangling(self, reference: Reference, keys: KeySet) -> int:
        return self.gate.number(self.statements.count_dangling(reference, keys))


# What stands for NULL in a unique index, where it says beside it that it is one.
_NOTHING = {Family.INTEGER: "0", Family.NUMBER: "0", Family.BOOLEAN: "false"}


# Seconds that a server may take to let us in, where no other number was given.
LONGEST = 10.0


def _write_value(value: Any) -> str:
    return str(int(value)) if isinstance(value, bool) else str(value)


def cannot_connect(address: Address, reason: str) -> DatabaseFailed:
    """The texts of the drivers name host, user and database, never a password."""
    told = f"The server at {address.host or 'the local socket'} cannot be reached, or refuses"
    return DatabaseFailed(
        f"{told}: {reason.strip().rstrip('.')}.", "Check host, port, user, password and database."
    )


def pooled() -> DatabaseFailed:
    return DatabaseFailed(
        "A pooler stands between us and the server, so locks, settings and temporary tables may "
        "belong to nobody.",
        'Connect to the server itself. If the pooler keeps a session together: pooled = "session" '
        "in yeldro.toml.",
    )


def under_way() -> Refused:
    return Refused(
        "Another run of this cleanup is under way on this database.", "Try again when it is done."
    )


def did_not_commit(error: YeldroError | None = None) -> NotCommitted:
    """What the database itself said of a COMMIT."""
    because = f" It said: {error.message}" if error else ""
    hint = error.hint if isinstance(error, TooLarge) else "All of it was rolled back. Run it again."
    return NotCommitted(f"The database did not commit.{because}", hint)
