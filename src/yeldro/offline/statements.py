"""The statements of a run for an engine that nobody connects to.

They are those that every engine shares, compiled with SQLAlchemy's own dialects, which need no
driver for that. Only forms that all of these engines have are used: EXISTS where others compare
several columns at once, CASE where they order by a truth value.
"""

from __future__ import annotations

import re
from collections.abc import Collection, Iterator, Sequence
from typing import Any

import sqlalchemy as sa

from yeldro.core.model.key_set import KeySet, StoredKeys
from yeldro.core.model.schema import Column, Family, Reference, Table
from yeldro.core.model.values import Value
from yeldro.core.selection.grouping import Grouping, Rule, RuleKind
from yeldro.core.selection.selection import Selection
from yeldro.engines.shared.statements import Columns, Rows, Statements

# Names that need no quotes on any server.
_PLAIN = re.compile(r"[A-Za-z_][A-Za-z0-9_]*")
_ONE: sa.ColumnElement[int] = sa.literal_column("1")
_ZERO: sa.ColumnElement[int] = sa.literal_column("0")
# Where there are no truth values a bare one is no condition, and not every dialect writes one.
NEVER = _ZERO == _ONE


class OfflineStatements(Statements):
    """`quoted` are the names that the schema file has in quotes: others are folded by the engine,
    and must not be quoted."""

    def __init__(self, quoted: Collection[str]) -> None:
        super().__init__(None, lambda value: value)
        self.quoted = quoted

    def name(self, text: str) -> sa.sql.quoted_name:
        """A name as the schema file has it, in quotes or bare."""
        needs_quotes = text in self.quoted or not _PLAIN.fullmatch(text)
        return sa.sql.quoted_name(text, needs_quotes)

    def table(self, table: Table) -> sa.TableClause:
        if table not in self._tables:
            columns = [self.column(table, name) for name in table.column_names]
            schema = self.name(table.name.schema) if table.name.schema else None
            self._tables[table] = sa.table(self.name(table.name.name), *columns, schema=schema)
        return self._tables[table]

    def column(self, table: Table, name: str) -> sa.ColumnClause[Any]:
        return sa.column(self.name(name))

    def key_table(self, key_set: KeySet) -> sa.TableClause:
        clause = super().key_table(key_set)
        clause.name = sa.sql.quoted_name(clause.name, False)
        return clause

    def make_empty(self, keys: StoredKeys) -> Rows:
        columns = [cell.label(f"c{place}") for place, cell in enumerate(self.carried(keys))]
        clause = self.table(keys.table)
        new = [clause.c[name].label(f"n{place}") for place, name in enumerate(keys.new)]
        return sa.select(*columns, _ZERO.label("round"), *new).where(NEVER)

    # Conditions: a value of several columns is not one value everywhere.

    def is_in(self, columns: Columns, keys: KeySet, names: Sequence[str]) -> sa.ColumnElement[bool]:
        among = sa.select(*self.key_columns(keys, names))
        return _is_among(columns, among)

    def points_among(
        self, reference: Reference, pointing: Columns, among: Rows
    ) -> sa.ColumnElement[bool]:
        return _is_among(pointing, among)

    def is_selected(self, selection: Selection) -> list[sa.ColumnElement[bool]]:
        """Keys that were listed stand in the condition: there is nobody to send them to."""
        wanted = super().is_selected(selection)
        if selection.keys is not None:
            keys = [self._has_key(selection, key) for key in selection.keys]
            wanted.append(sa.or_(*keys))
        return wanted

    def _has_key(self, selection: Selection, key: Sequence[Value]) -> sa.ColumnElement[bool]:
        clause = self.table(selection.table)
        pairs = zip(selection.key_columns, key, strict=True)
        return sa.and_(*(clause.c[name] == sa.literal(value) for name, value in pairs))

    def first_rows(self, selection: Selection) -> list[sa.ColumnElement[Any]]:
        clause = self.table(selection.table)
        ordered: list[sa.ColumnElement[Any]] = []
        for order in selection.order:
            column = clause.c[order.column]
            ordered += [_is_null(column), column.desc() if order.descending else column]
        return [*ordered, *(clause.c[name] for name in selection.table.identity)]

    # Counting

    def count_keys(self, key_sets: Sequence[StoredKeys]) -> sa.ColumnElement[int]:
        """How many rows stand in some key sets together, a row counting once a set."""
        counts = [
            sa.select(sa.func.count()).select_from(self.key_table(keys)).scalar_subquery()
            for keys in key_sets
        ]
        total: sa.ColumnElement[int] = counts[0]
        for count in counts[1:]:
            total = total + count
        return total

    def is_wrong(self, condition: sa.ColumnElement[bool]) -> Rows:
        """1 where something is so that must not be."""
        return sa.select(sa.case((condition, _ONE), else_=_ZERO))

    def has_some(self, rows: Rows) -> Rows:
        """1 where a query counts any rows."""
        return self.is_wrong(rows.scalar_subquery() > _ZERO)

    # Duplicates

    def pair(self, grouping: Grouping, into: StoredKeys) -> sa.Insert:
        """The surplus rows of every group, each beside the row that stays."""
        clause = self.table(into.table)
        same = [clause.c[part.column] for part in grouping.same]
        order = [*self._rank(grouping), *(clause.c[name] for name in into.table.identity)]
        window: dict[str, Any] = {"partition_by": same, "order_by": order}
        own = [clause.c[name].label(f"c{n}") for n, name in enumerate(into.columns)]
        first = [sa.func.first_value(clause.c[name]).over(**window) for name in into.new]
        stays = [cell.label(f"n{n}") for n, cell in enumerate(first)]
        place = sa.func.row_number().over(**window).label("place")
        ranked = sa.select(*own, *stays, place).where(*self.is_looked_at(grouping))
        rows = ranked.subquery(self.own("rows"))
        cells = [rows.c[cell.name] for cell in own]
        news = [rows.c[cell.name] for cell in stays]
        surplus = sa.select(*cells, _ZERO, *news).where(rows.c.place > _ONE)
        return self.fill(into, surplus)

    def is_looked_at(self, grouping: Grouping) -> list[sa.ColumnElement[bool]]:
        """Which rows are looked at: a NULL is the same as nothing, unless it was said that it
        is."""
        clause = self.table(grouping.table)
        wanted = self.is_selected(grouping.selection)
        if grouping.nulls_differ:
            wanted += [clause.c[part.column].is_not(None) for part in grouping.same]
        return wanted

    def count_groups(self, grouping: Grouping) -> Rows:
        """How many groups hold several rows."""
        clause = self.table(grouping.table)
        groups = sa.select(sa.func.count().label("n")).select_from(clause)
        groups = groups.where(*self.is_looked_at(grouping))
        groups = groups.group_by(*(clause.c[part.column] for part in grouping.same))
        several = groups.having(sa.func.count() > _ONE).subquery(self.own("groups"))
        return sa.select(sa.func.count()).select_from(several)

    def _rank(self, grouping: Grouping) -> Iterator[sa.ColumnElement[Any]]:
        for rule in grouping.rules:
            yield from self._rank_by(rule, grouping.table)

    def _rank_by(self, rule: Rule, table: Table) -> Iterator[sa.ColumnElement[Any]]:
        clause = self.table(table)
        if rule.kind is RuleKind.WHERE:
            assert rule.condition
            yield sa.case((self.fragment(rule.condition), _ZERO), else_=_ONE)
        elif rule.kind is RuleKind.FULLEST:
            empty = [self._is_empty(clause.c[one.name], one) for one in table.columns]
            total = empty[0]
            for one in empty[1:]:
                total = total + one
            yield total
        else:
            column = clause.c[rule.column]
            yield _is_null(column)
            falling = rule.kind in (RuleKind.NEWEST, RuleKind.HIGHEST)
            yield column.desc() if falling else column

    def _is_empty(self, cell: sa.ColumnElement[Any], column: Column) -> sa.ColumnElement[int]:
        if column.family is not Family.TEXT:
            return _is_null(cell)
        # An empty text is NULL in Oracle, where the comparison is never true then.
        blank = sa.func.rtrim(sa.func.ltrim(cell))
        empty = sa.or_(cell.is_(None), blank.is_(None), blank == sa.literal(""))
        return sa.case((empty, _ONE), else_=_ZERO)

    # Changing

    def move(self, reference: Reference, keys: StoredKeys, without: KeySet | None) -> sa.Update:
        """Point rows at what stays in the place of what they point at."""
        clause = self.table(reference.child)
        pointing = self.pointing(reference)
        pairs = zip(pointing, self.key_columns(keys, reference.referred), strict=True)
        same = [key == own for own, key in pairs]
        new = self.new_columns(keys, reference.referred)
        values = {}
        for own, cell in zip(reference.columns, new, strict=True):
            values[clause.c[own]] = sa.select(cell).where(*same).scalar_subquery()
        moving = sa.update(clause).where(self.points_into(reference, pointing, keys))
        if without is not None:
            moving = moving.where(self.lacks_identity(without))
        return moving.values(values)

    def points_at_itself(self, reference: Reference, keys: StoredKeys) -> sa.ColumnElement[bool]:
        """Whether a row that stays would be pointed at itself."""
        clause, names = self.table(reference.child), reference.child.identity
        pairs = zip(
            self.pointing(reference), self.key_columns(keys, reference.referred), strict=True
        )
        same = [key == own for own, key in pairs]
        own = zip(self.new_columns(keys, names), names, strict=True)
        same += [new == clause.c[name] for new, name in own]
        return sa.exists().where(*same)

    # Walks: from rows of a table along a reference to itself, to find those that lead back

    def make_walk(self, reference: Reference, name: str) -> sa.TableClause:
        """A table for what each row leads to: s0, … is the row, r0, … what it leads to."""
        starts: list[sa.ColumnClause[Any]] = [
            sa.column(f"s{n}") for n in range(len(reference.child.identity))
        ]
        ends: list[sa.ColumnClause[Any]] = [
            sa.column(f"r{n}") for n in range(len(reference.columns))
        ]
        return sa.table(sa.sql.quoted_name(name, False), *starts, *ends)

    def make_empty_walk(self, reference: Reference) -> Rows:
        return sa.select(*self._walked(reference)).where(NEVER)

    def start_walk(self, reference: Reference, walk: sa.TableClause, start: KeySet) -> sa.Insert:
        """What the rows of a key set point at."""
        clause = self.table(reference.child)
        filled = [clause.c[name].is_not(None) for name in reference.columns]
        rows = sa.select(*self._walked(reference)).where(self.has_identity(start), *filled)
        return sa.insert(walk).from_select([cell.name for cell in walk.c], rows)

    def go_on(self, reference: Reference, walk: sa.TableClause) -> sa.Insert:
        """What that points at in turn, as far as it is not known yet."""
        clause = self.table(reference.child)
        starts, ends = self._ends(reference, walk)
        next_ends = [clause.c[name] for name in reference.columns]
        there = [clause.c[name] for name in reference.referred]
        met = [own == end for own, end in zip(there, ends, strict=True)]
        known = walk.alias(self.own("known"))
        old_starts, old_ends = self._ends(reference, known)
        pairs = [*zip(old_starts, starts, strict=True), *zip(old_ends, next_ends, strict=True)]
        is_known = sa.exists().where(*(old == new for old, new in pairs))
        rows = sa.select(*starts, *next_ends).select_from(walk.join(clause, sa.and_(*met)))
        rows = rows.where(*(end.is_not(None) for end in next_ends), sa.not_(is_known)).distinct()
        return sa.insert(walk).from_select([cell.name for cell in walk.c], rows)

    def count_returns(self, reference: Reference, walk: sa.TableClause) -> Rows:
        """How many rows lead back to themselves."""
        clause = self.table(reference.child)
        starts, ends = self._ends(reference, walk)
        own = [clause.c[name] for name in reference.child.identity]
        there = [clause.c[name] for name in reference.referred]
        pairs = [*zip(own, starts, strict=True), *zip(there, ends, strict=True)]
        joined = walk.join(clause, sa.and_(*(one == other for one, other in pairs)))
        return sa.select(sa.func.count()).select_from(joined)

    def _walked(self, reference: Reference) -> list[sa.ColumnElement[Any]]:
        clause = self.table(reference.child)
        starts = [clause.c[name].label(f"s{n}") for n, name in enumerate(reference.child.identity)]
        return starts + [clause.c[name].label(f"r{n}") for n, name in enumerate(reference.columns)]

    def _ends(self, reference: Reference, walk: sa.FromClause) -> tuple[Columns, Columns]:
        starts = [walk.c[f"s{n}"] for n in range(len(reference.child.identity))]
        return starts, [walk.c[f"r{n}"] for n in range(len(reference.columns))]

    def lacks_value(self, reference: Reference, keys: StoredKeys) -> sa.ColumnElement[bool]:
        """Whether what a row would point at is NULL in the row that stays."""
        pairs = zip(
            self.pointing(reference), self.key_columns(keys, reference.referred), strict=True
        )
        same = [key == own for own, key in pairs]
        unset = [new.is_(None) for new in self.new_columns(keys, reference.referred)]
        return sa.exists().where(*same, sa.or_(*unset))


def _is_among(columns: Columns, among: Rows) -> sa.ColumnElement[bool]:
    """Whether some row of a query has these values."""
    pairs = zip(among.selected_columns, columns, strict=True)
    return among.where(*(there == own for there, own in pairs)).exists()


def _is_null(cell: sa.ColumnElement[Any]) -> sa.ColumnElement[int]:
    return sa.case((cell.is_(None), _ONE), else_=_ZERO)
