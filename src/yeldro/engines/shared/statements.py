"""The statements that all engines share, built from SQLAlchemy Core constructs. Nothing is sent
here.

A key table has the columns c0, c1, … (the identity, then the other referred columns), `round`, and
n0, n1, … where its rows have new values.
"""

from __future__ import annotations

import itertools
from collections.abc import Callable, Iterable, Mapping, Sequence
from typing import Any

import sqlalchemy as sa
from sqlalchemy.ext.compiler import compiles

from yeldro.core.database.column_profile import First
from yeldro.core.model.key_set import (
    DependentRows,
    KeyRange,
    KeySet,
    StoredKeys,
    WholeTable,
    stored,
)
from yeldro.core.model.schema import Column, Reference, Table
from yeldro.core.selection.condition import Condition
from yeldro.core.selection.selection import Order, Selection
from yeldro.engines.shared.fragment import Fragment
from yeldro.engines.shared.held import HeldTable, Holding

# What `round` says of matched rows; dependents get a number from 0 on.
MATCHED = "-1"
Columns = Sequence[sa.ColumnElement[Any]]
Rows = sa.Select[*tuple[Any, ...]]


class Statements:
    """`key_schema` is where temporary tables live; `adapt` turns a value into one that the driver
    binds.

    `holding` is how our tables are held here, where the account may make none. `judge` is asked
    about each condition, and each view, before it becomes a part of a statement.
    """

    def __init__(self, key_schema: str | None, adapt: Callable[[Any], Any]) -> None:
        self.key_schema = key_schema
        self.adapt = adapt
        self.judge: Callable[[str], None] = lambda _: None
        self.holding: Holding | None = None
        self._prefix = "yeldro_"
        self._tables: dict[Table, sa.TableClause] = {}
        self._key_tables: dict[StoredKeys, sa.TableClause] = {}
        self._ranges: dict[KeyRange, sa.FromClause] = {}
        self._remembered: set[StoredKeys] = set()
        self._held: dict[str, HeldTable] = {}

    def avoid(self, names: Iterable[str]) -> None:
        """Let no name of ours in a statement be that of a table."""
        lowered = [name.lower() for name in names]
        prefixes = itertools.chain(
            ["yeldro_"], (f"yeldro{number}_" for number in itertools.count())
        )
        self._prefix = next(
            one for one in prefixes if not any(name.startswith(one) for name in lowered)
        )

    def own(self, name: str) -> str:
        """A name for a part of a statement."""
        return self._prefix + name

    # Tables and columns

    def table(self, table: Table) -> sa.TableClause:
        """The clause of a table, always the same one, so that a statement names the table once."""
        if table not in self._tables:
            names = dict.fromkeys((*table.column_names, *table.identity))
            columns = [self.column(table, name) for name in names]
            self._tables[table] = sa.table(table.name.name, *columns, schema=table.name.schema)
        return self._tables[table]

    def column(self, table: Table, name: str) -> sa.ColumnClause[Any]:
        """A column of a table, or what stands for one in its identity."""
        return sa.column(name)

    drop_temporary = "DROP TABLE IF EXISTS"
    """What drops a temporary table, and commits nothing."""

    def key_rows(self, keys: KeySet) -> sa.FromClause:
        """What the keys of a key set are read from: a range has no table of its own."""
        if not isinstance(keys, KeyRange):
            return self.key_table(keys)
        if keys not in self._ranges:
            self._ranges[keys] = self._select_range(keys)
        return self._ranges[keys]

    def key_table(self, key_set: KeySet) -> sa.TableClause:
        """The temporary table of a key set that has one."""
        keys = stored(key_set)
        assert not isinstance(keys, KeyRange)
        if keys not in self._key_tables and self.holding:
            made_of = {
                f"c{place}": self.origin(keys.table, name)
                for place, name in enumerate(keys.columns)
            }
            made_of |= {"round": self.holding.number}
            made_of |= {
                f"n{place}": self.origin(keys.table, name) for place, name in enumerate(keys.new)
            }
            self._key_tables[keys] = self.hold(keys.name, made_of)
        if keys not in self._key_tables:
            columns: list[sa.ColumnClause[Any]] = [
                sa.column(f"c{place}") for place in range(len(keys.columns))
            ]
            new: list[sa.ColumnClause[Any]] = [
                sa.column(f"n{place}") for place in range(len(keys.new))
            ]
            self._key_tables[keys] = sa.table(
                keys.name, *columns, sa.column("round"), *new, schema=self.key_schema
            )
        return self._key_tables[keys]

    def _select_range(self, keys: KeyRange) -> sa.FromClause:
        """As if it were a key table of its own."""
        source = self.key_table(keys.numbered)
        cells = [source.c[f"c{place}"] for place in range(len(keys.columns))]
        low: sa.ColumnElement[int] = sa.literal_column(str(keys.first))
        high: sa.ColumnElement[int] = sa.literal_column(str(keys.last))
        rows = sa.select(*cells, sa.literal_column(MATCHED).label("round"))
        return rows.where(source.c.round.between(low, high)).subquery(keys.name)

    def remember(self) -> None:
        """What is known of key sets by now stays known when others are forgotten."""
        self._remembered = set(self._key_tables)

    def forget_others(self) -> None:
        """A run of thousands of batches would keep them all in memory."""
        for keys in self._key_tables.keys() - self._remembered:
            del self._key_tables[keys]
        self._ranges.clear()

    def origin(self, table: Table, name: str) -> Column | str:
        """What a column of ours takes its values from."""
        assert self.holding
        return table.column(name) if name in table.column_names else self.holding.places[name]

    @property
    def holds(self) -> bool:
        """Whether there are tables that are held here."""
        return bool(self._held)

    def hold(self, name: str, made_of: Mapping[str, Column | str]) -> HeldTable:
        """A table that is kept here, always the same one for a name."""
        assert self.holding
        if name not in self._held:
            self._held[name] = HeldTable(
                name, [sa.column(one) for one in made_of], made_of, self.holding
            )
        return self._held[name]

    def key_columns(self, keys: KeySet, names: Sequence[str]) -> list[sa.ColumnElement[Any]]:
        clause = self.key_rows(keys)
        return [clause.c[f"c{keys.columns.index(name)}"] for name in names]

    def new_columns(self, keys: KeySet, names: Sequence[str]) -> list[sa.ColumnElement[Any]]:
        clause = self.key_table(keys)
        return [clause.c[f"n{stored(keys).new.index(name)}"] for name in names]

    def carried(self, keys: KeySet) -> list[sa.ColumnElement[Any]]:
        clause = self.table(keys.table)
        return [clause.c[name] for name in keys.columns]

    def make_empty(self, keys: StoredKeys) -> Rows:
        """The columns of a key table with their types, and no row."""
        clause = self.table(keys.table)
        columns = [column.label(f"c{place}") for place, column in enumerate(self.carried(keys))]
        new = [clause.c[name].label(f"n{place}") for place, name in enumerate(keys.new)]
        return sa.select(*columns, sa.literal_column("0").label("round"), *new).where(sa.false())

    # Conditions

    def fragment(self, condition: Condition) -> Fragment:
        # Here and nowhere else: nothing that a person wrote reaches a statement unjudged.
        self.judge(condition.text)
        return Fragment(condition, self.adapt)

    def exact(self, column: sa.ColumnElement[Any]) -> sa.ColumnElement[Any]:
        """A text in a form that differs wherever its bytes do."""
        return sa.cast(column, sa.Text)

    def sorted_as(self, cell: sa.ColumnElement[Any], column: Column) -> sa.ColumnElement[Any]:
        """An expression over values of a column, compared as the column is."""
        return cell

    def is_in(self, columns: Columns, keys: KeySet, names: Sequence[str]) -> sa.ColumnElement[bool]:
        """Whether `columns` stand among the columns `names` of a key set."""
        inside: sa.ColumnElement[bool] = as_tuple(columns).in_(
            sa.select(*self.key_columns(keys, names))
        )
        return inside

    def has_identity(self, keys: KeySet) -> sa.ColumnElement[bool]:
        """Whether a row of the key set's table is in the key set."""
        if isinstance(keys, WholeTable):
            return sa.true()
        if isinstance(keys, DependentRows):
            reference, parents = keys.reference, keys.parents
            return self.points_into(reference, self.pointing(reference), parents)
        clause = self.table(keys.table)
        return self.is_in(
            [clause.c[name] for name in keys.table.identity], keys, keys.table.identity
        )

    def is_matched(self, keys: KeySet) -> sa.ColumnElement[bool]:
        """Whether a row was put into the key set as a matched one, and not as a dependent of
        another."""
        if isinstance(keys, WholeTable):
            return sa.true()
        clause, names = self.table(keys.table), keys.table.identity
        matched = sa.select(*self.key_columns(keys, names)).where(
            self.key_rows(keys).c.round == sa.literal_column(MATCHED)
        )
        inside: sa.ColumnElement[bool] = as_tuple([clause.c[name] for name in names]).in_(matched)
        return inside

    def lacks_identity(self, keys: KeySet) -> sa.ColumnElement[bool]:
        """Whether a row of the key set's table is not in the key set."""
        clause = self.table(keys.table)
        pairs = zip(keys.table.identity, self.key_columns(keys, keys.table.identity), strict=True)
        # NOT EXISTS and never NOT IN: one NULL in a list would let no row through.
        return sa.not_(sa.exists().where(*(clause.c[name] == column for name, column in pairs)))

    def fails(self, test: sa.ColumnElement[bool], names: Sequence[str]) -> sa.ColumnElement[bool]:
        """Whether the values of these columns are not in a list, none of them or of those being
        NULL."""
        return sa.not_(test)

    def pointing(
        self, reference: Reference, rows: sa.FromClause | None = None
    ) -> list[sa.ColumnElement[Any]]:
        """The columns of the child, in the form in which the engine compares them with the referred
        ones.

        `rows` may stand for the child itself.
        """
        clause = self.table(reference.child) if rows is None else rows
        return [clause.c[name] for name in reference.columns]

    def seeking(
        self, reference: Reference, rows: sa.FromClause | None = None
    ) -> list[sa.ColumnElement[Any]]:
        """The same, where a row's parent is looked for."""
        return self.pointing(reference, rows)

    def meets(
        self, reference: Reference, pointing: Columns, referred: Columns
    ) -> list[sa.ColumnElement[bool]]:
        """Whether a row that is `pointing` means the one with these referred columns, as the engine
        compares them."""
        return [own == there for own, there in zip(pointing, referred, strict=True)]

    def points_into(
        self, reference: Reference, pointing: Columns, parents: KeySet
    ) -> sa.ColumnElement[bool]:
        """Whether a row that is `pointing` means a row of a key set."""
        return self.points_among(
            reference, pointing, sa.select(*self.key_columns(parents, reference.referred))
        )

    def points_among(
        self, reference: Reference, pointing: Columns, among: Rows
    ) -> sa.ColumnElement[bool]:
        """The same for the rows of a query for the referred columns."""
        inside: sa.ColumnElement[bool] = as_tuple(pointing).in_(among)
        return inside

    def is_selected(self, selection: Selection) -> list[sa.ColumnElement[bool]]:
        clause = self.table(selection.table)
        wanted: list[sa.ColumnElement[bool]] = [
            self.fragment(condition) for condition in selection.conditions
        ]
        if selection.view:
            self.judge(selection.view.table.definition)
            shown = self.table(selection.view.table)
            rows = sa.select(*(shown.c[name] for name in selection.view.key)).where(*wanted)
            wanted = [as_tuple([clause.c[name] for name in selection.table.key]).in_(rows)]
        if selection.listed:
            wanted.append(
                self.is_in(
                    [clause.c[name] for name in selection.listed.columns],
                    selection.listed,
                    selection.listed.columns,
                )
            )
        for match in selection.matches:
            found = self.has_equal(
                [clause.c[own] for own in match.columns],
                match.other,
                [one for _, one in match.pairs],
            )
            wanted.append(found if match.found else sa.not_(found))
        if selection.orphans:
            wanted.append(
                sa.or_(*(self.lacks_parent(reference) for reference in selection.orphans))
            )
        return wanted

    def has_equal(
        self, columns: Columns, other: Table, names: Sequence[str]
    ) -> sa.ColumnElement[bool]:
        """Whether some row of another table has the same values."""
        self.judge(other.definition)
        there = self.table(other).alias(self.own("other"))
        pairs = zip(columns, names, strict=True)
        return sa.exists().where(*(column == there.c[name] for column, name in pairs))

    def lacks_parent(self, reference: Reference) -> sa.ColumnElement[bool]:
        child = self.table(reference.child)
        # A reference with a NULL in it points at nothing, so it lacks nothing.
        filled = [child.c[name].is_not(None) for name in reference.columns]
        there = self.table(reference.parent).alias(self.own("other"))
        referred = [there.c[name] for name in reference.referred]
        found = sa.exists().where(*self.meets(reference, self.seeking(reference), referred))
        return sa.and_(*filled, sa.not_(found))

    # Filling key sets

    def match(self, selection: Selection, into: StoredKeys) -> sa.Insert:
        wanted: Rows = sa.select(*self.carried(into), sa.literal_column(MATCHED)).where(
            *self.is_selected(selection)
        )
        if selection.limit is not None:
            wanted = wanted.order_by(*self.first_rows(selection)).limit(selection.limit)
        return self.fill(into, wanted)

    def count_matching(self, selection: Selection) -> Rows:
        """How many rows are selected. In a run they are locked as those of a key set are."""
        return self.count(selection.table).where(*self.is_selected(selection))

    def first_rows(self, selection: Selection) -> list[sa.ColumnElement[Any]]:
        clause = self.table(selection.table)

        def ends(order: Order) -> list[sa.ColumnElement[Any]]:
            column = clause.c[order.column]
            return [column.is_(None), column.desc() if order.descending else column.asc()]

        ordered = [part for order in selection.order for part in ends(order)]
        # The key is the last tie-breaker, so that "the first five" are the same five every time.
        return [*ordered, *(clause.c[name] for name in selection.table.identity)]

    def fill(self, into: KeySet, rows: Rows) -> sa.Insert:
        target = self.key_table(into)
        return sa.insert(target).from_select([column.name for column in target.c], rows)

    def fill_plain(self, into: StoredKeys, rows: Rows) -> sa.Insert:
        """The same for rows that are found by looking at groups of them: such a query cannot lock
        by itself."""
        return Statements.fill(self, into, rows)

    def pull(
        self,
        reference: Reference,
        parents: KeySet,
        into: StoredKeys,
        round: int,
        since: int | None,
        without: Sequence[KeySet],
        within: StoredKeys | None = None,
    ) -> sa.Insert:
        own = [self.table(into.table).c[name] for name in into.new]
        wanted: Rows = sa.select(*self.carried(into), sa.literal_column(str(int(round))), *own)
        wanted = self.depending_on(wanted, reference, parents, since)
        for other in without:
            wanted = wanted.where(self.lacks_identity(other))
        if within:
            cells = [self.table(into.table).c[name] for name in within.columns]
            wanted = wanted.where(self.is_in(cells, within, within.columns))
        return self.fill(into, wanted)

    def depending_on(
        self, rows: Rows, reference: Reference, parents: KeySet, since: int | None = None
    ) -> Rows:
        """Keep the rows of the child that point at `parents`, or at those that came in the round
        `since`.

        A NULL part points at nothing (MATCH SIMPLE).
        """
        among = sa.select(*self.key_columns(parents, reference.referred))
        if since is not None:
            among = among.where(self.key_table(parents).c.round == since)
        return rows.where(self.points_among(reference, self.pointing(reference), among))

    def close_over(self, reference: Reference, keys: StoredKeys, round: int) -> sa.Insert:
        start = self.key_table(keys)
        names = [f"c{place}" for place in range(len(keys.columns))]
        walk = sa.select(*(start.c[name] for name in names)).cte(self.own("walk"), recursive=True)
        child = self.table(reference.child)
        referred = [walk.c[f"c{keys.columns.index(name)}"] for name in reference.referred]
        link = sa.and_(*self.meets(reference, self.pointing(reference), referred))
        step = sa.select(*self.carried(keys)).select_from(walk.join(child, link))
        # UNION drops what was found before, which ends the walk where rows point at each other.
        walk = walk.union(step)
        # Rows that are in the key set already must not come in twice.
        return self.fill(keys, self._not_there(walk, keys, sa.literal_column(str(int(round)))))

    def _not_there(
        self, found: sa.FromClause, keys: StoredKeys, round: sa.ColumnElement[Any]
    ) -> Rows:
        """The rows that are not in a key set yet. Its table is looked into by an index."""
        start = self.key_table(keys)
        places = [f"c{keys.columns.index(name)}" for name in keys.table.identity]
        there = sa.exists().where(*(found.c[name] == start.c[name] for name in places))
        cells = [found.c[f"c{place}"] for place in range(len(keys.columns))]
        return sa.select(*cells, round).where(sa.not_(there.correlate(found)))

    def merge(self, keys: KeySet, into: StoredKeys) -> sa.Insert:
        new = self.key_table(keys)
        names = keys.table.identity
        pairs = zip(self.key_columns(into, names), self.key_columns(keys, names), strict=True)
        known = sa.exists().where(*(one == other for one, other in pairs)).correlate(new)
        return self.fill(
            into,
            sa.select(*self.key_columns(keys, into.columns), new.c.round).where(sa.not_(known)),
        )

    # Counting

    def count_all(self, table: Table) -> Rows:
        return self.count(table)

    def count(self, table: Table) -> Rows:
        return sa.select(sa.func.count()).select_from(self.table(table))

    def count_referencing(
        self, reference: Reference, parents: KeySet, without: KeySet | None
    ) -> Rows:
        rows = self.depending_on(self.count(reference.child), reference, parents)
        return rows if without is None else rows.where(self.lacks_identity(without))

    def count_most_referencing(self, reference: Reference, parents: KeySet) -> Rows:
        number = sa.func.count()
        rows = sa.select(number).select_from(self.table(reference.child))
        rows = rows.group_by(*self.pointing(reference)).order_by(number.desc()).limit(1)
        return self.depending_on(rows, reference, parents)

    def has_referencing(self, reference: Reference, parents: KeySet) -> Rows:
        one: Rows = sa.select(sa.literal_column("1")).select_from(self.table(reference.child))
        return self.depending_on(one, reference, parents).limit(1)

    def count_union(self, key_sets: Sequence[StoredKeys]) -> Rows:
        # A row may be detached over two references and is one row all the same.
        chosen = [sa.select(*self.key_columns(keys, keys.table.identity)) for keys in key_sets]
        return sa.select(sa.func.count()).select_from(sa.union(*chosen).subquery())

    def count_beyond(self, keys: KeySet, others: Sequence[KeySet]) -> Rows:
        return self.count_present(keys).where(*map(self.lacks_identity, others))

    def count_present(self, keys: KeySet) -> Rows:
        return self.count(keys.table).where(self.has_identity(keys))

    def count_dangling(self, reference: Reference, keys: KeySet) -> Rows:
        return self.count_present(keys).where(self.lacks_parent(reference))

    def count_found(self, listed: StoredKeys) -> Rows:
        cells = [self.table(listed.table).c[name] for name in listed.columns]
        return self.count(listed.table).where(self.is_in(cells, listed, listed.columns))

    def find_missing(self, listed: StoredKeys) -> Rows:
        names = listed.columns
        clause = self.table(listed.table)
        pairs = zip(names, self.key_columns(listed, names), strict=True)
        found = sa.exists().where(*(clause.c[name] == key for name, key in pairs))
        return sa.select(*self.key_columns(listed, names)).where(sa.not_(found)).distinct()

    def find_repeated(self, listed: StoredKeys) -> Rows:
        columns = self.key_columns(listed, listed.columns)
        return sa.select(*columns).group_by(*columns).having(sa.func.count() > 1)

    def count_nulls(self, table: Table, columns: Sequence[str], keys: KeySet | None) -> Rows:
        clause = self.table(table)
        rows = self.count(table) if keys is None else self.count(table).where(self.is_matched(keys))
        return rows.where(sa.or_(*(clause.c[name].is_(None) for name in columns)))

    def count_ties(self, selection: Selection, keys: KeySet) -> Rows:
        clause = self.table(selection.table)
        columns = [clause.c[order.column] for order in selection.order]
        backwards = []
        for order, column in zip(selection.order, columns, strict=True):
            backwards += [
                # NULLs come last on every engine, whatever is usual there.
                column.is_(None).desc(),
                column.asc() if order.descending else column.desc(),
            ]
        matched = self.is_matched(keys)
        named = [column.label(f"yeldro_last_{place}") for place, column in enumerate(columns)]
        last = (
            sa.select(*named)
            .where(matched)
            .order_by(*backwards)
            .limit(1)
            .subquery(self.own("last"))
        )
        alike = [
            column.is_not_distinct_from(there)
            for column, there in zip(columns, last.c, strict=True)
        ]
        rows = sa.select(sa.func.count()).select_from(clause.join(last, sa.and_(*alike)))
        return rows.where(
            *self.is_selected(selection), self.fails(matched, selection.table.identity)
        )

    def count_whole_groups(self, keys: KeySet, columns: Sequence[str]) -> Rows:
        clause = self.table(keys.table)
        inside = sa.func.count(sa.case((self.is_matched(keys), sa.literal_column("1"))))
        groups: Rows = sa.select(sa.literal_column("1").label("whole")).select_from(clause)
        groups = groups.where(*(clause.c[name].is_not(None) for name in columns))
        groups = groups.group_by(*(clause.c[name] for name in columns))
        groups = groups.having(sa.func.count() > 1, sa.func.count() == inside)
        return sa.select(sa.func.count()).select_from(groups.subquery(self.own("groups")))

    def count_filled(self, keys: KeySet, columns: Sequence[str]) -> Rows:
        clause = self.table(keys.table)
        counts = [sa.func.count(clause.c[name]) for name in columns]
        return sa.select(*counts).select_from(clause).where(self.is_matched(keys))

    def count_steps(self, table: Table, conditions: Sequence[Condition]) -> Rows:
        fragments = [self.fragment(condition) for condition in conditions]
        steps = [sa.and_(*fragments[: place + 1]) for place in range(len(fragments))]
        return sa.select(*map(count_where, steps)).select_from(self.table(table))

    def count_each(self, selection: Selection, conditions: Sequence[Condition]) -> Rows:
        counts = [count_where(self.fragment(condition)) for condition in conditions]
        rows: Rows = sa.select(sa.func.count(), *counts)
        return rows.select_from(self.table(selection.table)).where(*self.is_selected(selection))

    def find_values(
        self, table: Table, column: Column, condition: Condition | None, first: First, limit: int
    ) -> Rows:
        cell = self.table(table).c[column.name]
        rows = sa.select(cell, sa.func.count()).where(cell.is_not(None)).group_by(cell)
        if condition:
            rows = rows.where(self.fragment(condition))
        match first:
            case First.MOST_COMMON:
                rows = rows.order_by(sa.func.count().desc(), cell)
            case First.HIGHEST:
                rows = rows.order_by(cell.desc())
            case First.LOWEST:
                rows = rows.order_by(cell)
        return rows.limit(limit)

    def count_values(self, selection: Selection, columns: Sequence[str]) -> Rows:
        clause = self.table(selection.table)
        cells = [
            function(clause.c[name])
            for name in columns
            for function in (sa.func.count, lambda cell: sa.func.count(cell.distinct()))
        ]
        return sa.select(*cells).select_from(clause).where(*self.is_selected(selection))

    def find_spellings(self, keys: KeySet, column: str, limit: int) -> Rows:
        own = self.table(keys.table).c[column]
        rows = sa.select(sa.func.min(own)).where(self.is_matched(keys))
        return rows.group_by(self.exact(own)).order_by(self.exact(own)).limit(limit)

    # Rows

    def profile(self, table: Table, looks: Mapping[str, int]) -> Rows:
        """For every column the count of its values, of its different values, its smallest and its
        largest: as many of these as `looks` says."""
        clause = self.table(table)
        functions = (sa.func.count, lambda c: sa.func.count(c.distinct()), sa.func.min, sa.func.max)
        cells = [
            function(clause.c[name])
            for name, number in looks.items()
            for function in functions[:number]
        ]
        return sa.select(sa.func.count(), *cells).select_from(clause)

    def count_distinct(self, table: Table, columns: Sequence[str]) -> Rows:
        clause = self.table(table)
        different = sa.select(*(clause.c[name] for name in columns)).distinct()
        return sa.select(sa.func.count()).select_from(different.subquery())

    def count_by_prefix(self, table: Table, column: str, length: int, keys: KeySet | None) -> Rows:
        clause = self.table(table)
        first: sa.ColumnElement[int] = sa.literal_column("1")
        letters: sa.ColumnElement[int] = sa.literal_column(str(int(length)))
        text = sa.cast(clause.c[column], sa.Text)
        prefix = sa.func.substr(text, first, letters).label("prefix")
        rows = sa.select(prefix, sa.func.count()).select_from(clause).group_by(prefix)
        return rows if keys is None else rows.where(self.is_matched(keys))

    def count_fitting(self, child: Table, column: str, parent: Table, referred: str) -> Rows:
        own = self.table(child).c[column]
        values = (
            sa.select(own.label("value"))
            .where(own.is_not(None))
            .distinct()
            .subquery(self.own("values"))
        )
        there = sa.exists().where(self.table(parent).c[referred] == values.c.value)
        fitting = sa.select(sa.func.count()).select_from(values).where(there).scalar_subquery()
        return sa.select(sa.select(sa.func.count()).select_from(values).scalar_subquery(), fitting)

    def first(self, table: Table, limit: int) -> Rows:
        clause = self.table(table)
        rows = sa.select(*(clause.c[name] for name in table.column_names))
        return rows.order_by(*(clause.c[name] for name in table.identity)).limit(limit)

    def sample(self, keys: KeySet, columns: Sequence[str], limit: int | None) -> Rows:
        clause = self.table(keys.table)
        rows = sa.select(*(clause.c[name] for name in columns)).where(self.is_matched(keys))
        return rows.order_by(*(clause.c[name] for name in keys.table.identity)).limit(limit)

    def load(self, listed: StoredKeys) -> sa.Insert:
        """Every value is bound, `round` too: a driver then sends many rows at once."""
        target = self.key_table(listed)
        return sa.insert(target).values({column: sa.bindparam(column.name) for column in target.c})

    # Changing

    def build_index(
        self, index: sa.TableClause, table: Table, cells: Columns, *, unique: bool = False
    ) -> Words:
        verb = f"CREATE {'UNIQUE ' if unique else ''}INDEX"
        return Words(verb, sa.table(index.name), "ON", self.table(table), in_brackets(cells))

    def delete(self, keys: KeySet) -> sa.Delete:
        return sa.delete(self.table(keys.table)).where(self.has_identity(keys))

    def delete_selected(self, selection: Selection, keys: KeySet) -> sa.Executable:
        return sa.delete(self.table(selection.table)).where(*self.is_selected(selection))

    def delete_leaves(self, keys: KeySet, rigid: Sequence[Reference]) -> sa.Delete:
        """Delete the rows of a key set at which no other row of the table points through these
        links."""
        clause = self.table(keys.table)
        statement = Statements.delete(self, keys)
        for number, reference in enumerate(rigid):
            other = clause.alias(self.own(f"child_{number}"))
            pairs = zip(reference.columns, reference.referred, strict=True)
            below = sa.exists().where(
                *(other.c[name] == clause.c[referred] for name, referred in pairs)
            )
            statement = statement.where(sa.not_(below.correlate(clause)))
        return statement

    def detach(
        self, columns: Sequence[str], keys: KeySet, defaults: Sequence[str] | None
    ) -> sa.Update:
        """Set the columns to NULL, or to these default expressions of the catalogue."""
        clause = self.table(keys.table)
        new = {
            clause.c[name]: value
            for name, value in zip(columns, find_values(columns, defaults), strict=True)
        }
        return (
            sa.update(clause)
            .where(self.has_identity(keys))
            .values({**self.untouched(keys.table), **new})
        )

    def untouched(self, table: Table) -> dict[sa.ColumnElement[Any], sa.ColumnElement[Any]]:
        """The columns that would change by themselves with every update, as they are."""
        clause = self.table(table)
        return {
            clause.c[column.name]: clause.c[column.name]
            for column in table.columns
            if column.on_update
        }

    def unlink(self, reference: Reference, keys: KeySet) -> sa.Update:
        """Set the reference's nullable columns to NULL, or a self-reference without any to its own
        row."""
        clause = self.table(keys.table)
        new: dict[sa.ColumnElement[Any], Any] = {
            clause.c[name]: sa.null() for name in reference.nullable_columns
        }
        if not new:
            pairs = zip(reference.columns, reference.referred, strict=True)
            new = {
                clause.c[name]: sa.func.coalesce(clause.c[referred], clause.c[name])
                for name, referred in pairs
            }
        linked = sa.or_(*(column.is_not(None) for column in new))
        return sa.update(clause).where(self.has_identity(keys), linked).values(new)

    def count_detached(
        self, columns: Sequence[str], keys: StoredKeys, defaults: Sequence[str] | None
    ) -> Rows:
        clause = self.table(keys.table)
        same = [
            clause.c[name].is_not_distinct_from(self.assigned(value, keys.table.column(name)))
            for name, value in zip(columns, find_values(columns, defaults), strict=True)
        ]
        return self.count_present(keys).where(*same)

    def default_parent(
        self, reference: Reference, defaults: Sequence[str], gone: KeySet | None
    ) -> Rows:
        """Count the rows of the parent that stay and have these defaults in the referred
        columns.
        """
        clause = self.table(reference.parent)
        pairs = zip(reference.columns, find_values(reference.columns, defaults), strict=True)
        pointing = [self.assigned(value, reference.child.column(name)) for name, value in pairs]
        rows = self.count(reference.parent)
        rows = rows.where(
            *self.meets(reference, pointing, [clause.c[name] for name in reference.referred])
        )
        return rows if gone is None else rows.where(self.lacks_identity(gone))

    def assigned(self, value: sa.ColumnElement[Any], column: Column) -> sa.ColumnElement[Any]:
        """A value as it is once it stands in a column."""
        return value


def count_where(test: sa.ColumnElement[bool]) -> sa.ColumnElement[int]:
    """How many rows meet a test, among others that do not."""
    return sa.func.count(sa.case((test, sa.literal_column("1"))))


class Words(sa.sql.expression.Executable, sa.ClauseElement):
    """A statement that Core has no construct for: words, and the clauses between them. Columns in
    brackets are bare."""

    inherit_cache = False

    def __init__(self, *parts: str | sa.ClauseElement) -> None:
        self.parts = parts


@compiles(Words)
def _compile_words(element: Words, compiler: Any, literal_binds: bool = False, **_: Any) -> str:
    options = {"asfrom": True, "literal_binds": literal_binds}
    return " ".join(
        part
        if isinstance(part, str)
        else compiler.process(
            part, include_table=not isinstance(part, sa.sql.elements.Grouping), **options
        )
        for part in element.parts
    )


class _Bare(sa.ClauseElement):
    inherit_cache = False

    def __init__(self, rows: Rows) -> None:
        self.rows = rows


@compiles(_Bare)
def _compile_bare(element: _Bare, compiler: Any, literal_binds: bool = False, **_: Any) -> str:
    return str(compiler.process(element.rows, literal_binds=literal_binds))


def bare(rows: Rows) -> sa.ClauseElement:
    """A query among `Words` without the brackets of a subquery."""
    return _Bare(rows)


def in_brackets(columns: Columns) -> sa.ClauseElement:
    return sa.sql.elements.Grouping(sa.sql.elements.ClauseList(*columns))


def find_values(
    columns: Sequence[str], defaults: Sequence[str] | None
) -> list[sa.ColumnElement[Any]]:
    if defaults is None:
        return [sa.null() for _ in columns]
    return [sa.literal_column(default) for default in defaults]


def find_defaults(table: Table, columns: Sequence[str]) -> list[str]:
    """The default expressions of the catalogue, NULL where there is none."""
    return [table.column(name).default or "NULL" for name in columns]


def balanced(sign: str, parts: Sequence[sa.ColumnElement[Any]]) -> sa.ColumnElement[Any]:
    """One expression of many, in brackets by halves: engines bound how deep one may be."""
    if len(parts) == 1:
        return parts[0]
    middle = len(parts) // 2
    left, right = balanced(sign, parts[:middle]), balanced(sign, parts[middle:])
    return sa.sql.elements.Grouping(left.op(sign, is_comparison=sign in ("AND", "OR"))(right))


def as_tuple(columns: Columns) -> Any:
    return columns[0] if len(columns) == 1 else sa.tuple_(*columns)
