"""PostgreSQL's own statements."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

import sqlalchemy as sa
from sqlalchemy.ext.compiler import compiles

from yeldro.core.database.archive_format import Stage
from yeldro.core.model.key_set import DependentRows, KeySet, StoredKeys, stored
from yeldro.core.model.schema import Column, Family, Reference, Table
from yeldro.core.selection.selection import Selection
from yeldro.engines.postgresql.compiler import Equated
from yeldro.engines.shared.archive_statements import StageStatements
from yeldro.engines.shared.statements import Columns, Rows, Words, as_tuple, bare, in_brackets

# Rows of a temporary table from which on the planner is told what is in it.
LARGE = 1000


# Types whose own text form does not hold all of a value, and by which other type it is kept.
KEPT_AS = {
    '"char"': "integer",
    "xml": "text",
    **dict.fromkeys(
        (
            "regclass",
            "regcollation",
            "regconfig",
            "regdictionary",
            "regnamespace",
            "regoper",
            "regoperator",
        ),
        "oid",
    ),
    **dict.fromkeys(("regproc", "regprocedure", "regrole", "regtype"), "oid"),
}


class Named(sa.types.UserDefinedType[Any]):
    """A type by its own name."""

    cache_ok = True

    def __init__(self, name: str) -> None:
        self.name = name

    def get_col_spec(self, **_: Any) -> str:
        return self.name


class Collated(sa.sql.expression.ColumnElement[str]):
    """A text under a collation of the catalogue, "" being the one of the database."""

    inherit_cache = False
    type = sa.Text()

    def __init__(self, cell: sa.ColumnElement[Any], collation: str) -> None:
        self.cell = cell
        self.collation = collation or '"default"'


@compiles(Collated)
def _compile_collated(element: Collated, compiler: Any, **options: Any) -> str:
    return f"({compiler.process(element.cell, **options)} COLLATE {element.collation})"


class PostgresqlStatements(StageStatements):
    """`locked` are the tables whose rows are locked when they are put into key sets, so that nobody
    changes one or adds to what depends on it before the end. Others are locked by their deletion:
    the transaction sees one snapshot, and deleting a row that was changed since fails."""

    locked: frozenset[Table] = frozenset()

    def __init__(self, key_schema: str | None, adapt: Callable[[Any], Any]) -> None:
        super().__init__(key_schema, adapt)
        self.spans: dict[KeySet, tuple[int, int]] = {}
        """Of some key sets: between which numbers their keys lie."""

    def forget_others(self) -> None:
        super().forget_others()
        self.spans.clear()

    def is_in(self, columns: Columns, keys: KeySet, names: Sequence[str]) -> sa.ColumnElement[bool]:
        inside = super().is_in(columns, keys, names)
        return sa.and_(inside, *self._spanned(columns, keys, names))

    def _spanned(
        self, columns: Columns, keys: KeySet, names: Sequence[str]
    ) -> list[sa.ColumnElement[bool]]:
        """That a value lies between the ends of a key set, where these are known."""
        span = self.spans.get(keys) if tuple(names) == keys.table.identity else None
        if span is None:
            return []
        low: sa.ColumnElement[int] = sa.literal_column(str(span[0]))
        high: sa.ColumnElement[int] = sa.literal_column(str(span[1]))
        return [columns[0].between(low, high)]

    def points_into(
        self, reference: Reference, pointing: Columns, parents: KeySet
    ) -> sa.ColumnElement[bool]:
        inside = super().points_into(reference, pointing, parents)
        return sa.and_(inside, *self._points_near(reference, pointing, parents))

    def depending_on(
        self, rows: Rows, reference: Reference, parents: KeySet, since: int | None = None
    ) -> Rows:
        found = super().depending_on(rows, reference, parents, since)
        return found.where(*self._points_near(reference, self.pointing(reference), parents))

    def _points_near(
        self, reference: Reference, pointing: Columns, parents: KeySet
    ) -> list[sa.ColumnElement[bool]]:
        is_number = reference.child.column(reference.columns[0]).family is Family.INTEGER
        return self._spanned(pointing, parents, reference.referred) if is_number else []

    def column(self, table: Table, name: str) -> sa.ColumnClause[Any]:
        found = table.column(name) if name in table.column_names else None
        return (
            sa.column(name, Equated(found.equality))
            if found and found.equality
            else sa.column(name)
        )

    def key_table(self, keys: KeySet) -> sa.TableClause:
        clause = super().key_table(keys)
        for letter, names in (("c", keys.columns), ("n", stored(keys).new)):
            for place, name in enumerate(names):
                clause.c[f"{letter}{place}"].type = self.table(keys.table).c[name].type
        return clause

    def pointing(
        self, reference: Reference, rows: sa.FromClause | None = None
    ) -> list[sa.ColumnElement[Any]]:
        """Where the two sides have different collations the referred column's counts
        (ri_GenerateQualCollation in src/backend/utils/adt/ri_triggers.c)."""
        columns = super().pointing(reference, rows)
        for place, (own, referred) in enumerate(
            zip(reference.columns, reference.referred, strict=True)
        ):
            there = reference.parent.column(referred)
            if reference.child.column(own).collation != there.collation:
                columns[place] = Collated(columns[place], there.collation)
        return columns

    def meets(
        self, reference: Reference, pointing: Columns, referred: Columns
    ) -> list[sa.ColumnElement[bool]]:
        """A bare equal sign is looked for in the search path, where the one of the type may not
        be.
        """
        if not reference.operators:
            return super().meets(reference, pointing, referred)
        pairs = zip(reference.operators, referred, pointing, strict=True)
        return [there.op(sign, is_comparison=True)(own) for sign, there, own in pairs]

    def assigned(self, value: sa.ColumnElement[Any], column: Column) -> sa.ColumnElement[Any]:
        return sa.cast(value, Named(column.type))

    def points_among(
        self, reference: Reference, pointing: Columns, among: Rows
    ) -> sa.ColumnElement[bool]:
        if not reference.operators:
            return super().points_among(reference, pointing, among)
        rows = among.where(*self.meets(reference, pointing, list(among.selected_columns)))
        return rows.correlate_except(*among.get_final_froms()).exists()

    def exact(self, column: sa.ColumnElement[Any]) -> sa.ColumnElement[Any]:
        return sa.collate(sa.cast(column, sa.Text), "C")

    def fill(self, into: KeySet, rows: Rows) -> sa.Insert:
        return super().fill(into, self._lock_rows(into.table, rows))

    def _lock_rows(self, table: Table, rows: Rows) -> Rows:
        clause = self.table(table)
        is_plain = clause in rows.get_final_froms()
        return rows.with_for_update(of=clause) if table in self.locked and is_plain else rows

    def count_matching(self, selection: Selection) -> Rows:
        """An aggregate cannot lock by itself."""
        one: Rows = sa.select(sa.literal_column("1")).select_from(self.table(selection.table))
        rows = self._lock_rows(selection.table, one.where(*self.is_selected(selection)))
        return sa.select(sa.func.count()).select_from(rows.subquery(self.own("rows")))

    def moving(
        self, keys: KeySet, new: dict[sa.ColumnClause[Any], sa.ColumnElement[Any]]
    ) -> sa.Update:
        """Give new values to rows that go by their places, giving the old place and the new one of
        each."""
        clause, places = self.table(keys.table), self.key_table(keys)
        pairs = list(
            zip(keys.table.identity, self.key_columns(keys, keys.table.identity), strict=True)
        )
        update = (
            sa.update(clause).values(new).where(*(clause.c[name] == place for name, place in pairs))
        )
        return update.returning(places.c.c0, places.c.c1, *(clause.c[name] for name, _ in pairs))

    def kept(self, cell: sa.ColumnElement[Any], column: Column) -> sa.ColumnElement[Any]:
        return sa.cast(cell, Named(KEPT_AS[column.type])) if column.type in KEPT_AS else cell

    def is_same(
        self, table: Table, names: Sequence[str], own: sa.FromClause, other: sa.FromClause
    ) -> sa.ColumnElement[bool]:
        """`*=` compares the bytes of two records
        (https://www.postgresql.org/docs/current/functions-comparisons.html#COMPOSITE-TYPE-COMPARISON).
        """
        one, two = (
            sa.cast(sa.func.row(*(rows.c[name] for name in names)), Named("record"))
            for rows in (own, other)
        )
        return one.op("*=", is_comparison=True)(two)

    def image(
        self, table: Table, names: Sequence[str], clause: sa.FromClause
    ) -> sa.ColumnElement[str]:
        return sa.cast(sa.func.row(*(clause.c[name] for name in names)), sa.Text)

    def insert_staged(self, stage: Stage) -> Words:
        names, staged = self.insertable(stage), self.staged(stage)
        rows = bare(sa.select(*(staged.c[name] for name in names)))
        columns = in_brackets([sa.column(name) for name in names])
        return Words(
            "INSERT INTO", self.table(stage.table), columns, "OVERRIDING SYSTEM VALUE", rows
        )

    def _not_there(
        self, found: sa.FromClause, keys: StoredKeys, round: sa.ColumnElement[Any]
    ) -> Rows:
        """A key table has no index while nothing but looking is allowed. EXCEPT hashes, or sorts,
        also where the planner may do nothing but follow indexes."""
        start, names = self.key_table(keys), [f"c{place}" for place in range(len(keys.columns))]
        new = sa.select(*(found.c[name] for name in names)).except_(
            sa.select(*(start.c[name] for name in names))
        )
        rows = new.subquery(self.own("new"))
        return sa.select(*(rows.c[name] for name in names), round)

    def find_places(self, keys: DependentRows, places: str) -> Words:
        """Note where the rows of a key set lie."""
        rows: Rows = sa.select(sa.column("ctid").label("place"))
        rows = rows.select_from(self.table(keys.table))
        table = sa.table(places, schema="pg_temp")
        wanted = bare(rows.where(self.has_identity(keys)))
        return Words("CREATE TEMPORARY TABLE", table, "ON COMMIT DROP AS", wanted)

    def delete_at(self, keys: KeySet, places: str) -> Words:
        """Delete the rows at these places, in the order in which they lie: an array is walked so,
        and a subquery is not."""
        where = "WHERE ctid OPERATOR(pg_catalog.=) ANY (ARRAY(SELECT place FROM"
        found = sa.table(places, schema="pg_temp")
        return Words("DELETE FROM", self.table(keys.table), where, found, "))")

    def lock(self, keys: KeySet, among: Sequence[sa.ColumnElement[bool]] = ()) -> Rows:
        """Lock the rows of a key set, or of those of its rows that meet `among`."""
        clause, names = self.table(keys.table), keys.table.identity
        wanted = sa.select(*self.key_columns(keys, names)).where(*among)
        inside = as_tuple([clause.c[name] for name in names]).in_(wanted)
        locked: Rows = sa.select(sa.literal_column("1")).select_from(clause).where(inside)
        return sa.select(sa.func.count()).select_from(locked.with_for_update(of=clause).subquery())
