"""Rows that stay and get new values: the statements, and how every engine sends them."""

from __future__ import annotations

from abc import ABC
from collections.abc import Mapping, Sequence
from types import SimpleNamespace
from typing import Any

import sqlalchemy as sa

from yeldro.core.database.abilities import Row
from yeldro.core.model.key_set import KeySet, Mark, StoredKeys
from yeldro.core.model.schema import Column, Reference, Table, Unique
from yeldro.core.selection.grouping import Ranking
from yeldro.engines.shared.part import SqlPart
from yeldro.engines.shared.statements import Rows, as_tuple, balanced

_ONE: sa.ColumnElement[int] = sa.literal_column("1")
_ZERO: sa.ColumnElement[int] = sa.literal_column("0")


class SqlReplacing(SqlPart, ABC):
    """The part of a connection that lets rows take the place of others."""

    def lock_ranked(self, ranking: Ranking) -> None:
        """An engine that locks what it looks at has done so already."""

    def empty(self, keys: StoredKeys) -> None:
        self._gate.run(sa.delete(self._statements.key_table(keys)))

    def remove(self, keys: StoredKeys, gone: StoredKeys) -> None:
        clause, names = self._statements.key_table(keys), keys.table.identity
        own = self._statements.key_columns(keys, names)
        self._gate.run(sa.delete(clause).where(self._statements.is_in(own, gone, names)))

    # What they will point at

    def repoint(
        self, reference: Reference, gone: KeySet, images: StoredKeys, filled: StoredKeys | None
    ) -> None:
        clause = self._statements.key_table(images)
        aims = self._aims(reference, images)
        lost = self._statements.key_columns(gone, reference.referred)
        there = self._statements.new_columns(gone, reference.referred)
        meets = self._statements.meets(reference, self._pointing(reference, images), lost)
        late: sa.ColumnElement[int] = sa.literal_column(str(Mark.WAITING.value))
        if filled and set(reference.referred) & set(filled.new):
            names = gone.table.identity
            own = zip(
                self._statements.new_columns(gone, names),
                self._statements.key_columns(filled, names),
                strict=True,
            )
            later = [
                sa.func.coalesce(now, self._statements.new_columns(filled, [name])[0])
                if name in filled.new
                else now
                for name, now in zip(reference.referred, there, strict=True)
            ]
            # What they will point at is NULL in the kept row now, and is filled from a surplus row
            # later.
            empty = sa.or_(*(cell.is_(None) for cell in there))
            new = dict(zip(aims, later, strict=True))
            known = [value.is_not(None) for value in later]
            waiting = sa.update(clause).values({**new, clause.c.round: late})
            self._gate.run(waiting.where(*meets, empty, *known, *(one == two for one, two in own)))
        marks: dict[Any, Any] = {clause.c.round: self._marked(clause, Mark.MOVED)}
        values: list[sa.ColumnElement[Any]] = list(there)
        if reference.is_self:
            itself = sa.and_(
                *(
                    now == own
                    for now, own in zip(
                        there, self._statements.key_columns(images, reference.referred), strict=True
                    )
                )
            )
            free = reference.nullable_columns
            values = [
                sa.case((itself, sa.null()), else_=value) if name in free else value
                for name, value in zip(reference.columns, there, strict=True)
            ]
            # A kept row that pointed at its own surplus row would point at itself: its reference is
            # cleared, or it is a stop.
            looped = clause.c.round if free else sa.literal_column(str(Mark.LOOPED.value))
            marks = {
                clause.c.round: sa.case((itself, looped), else_=self._marked(clause, Mark.MOVED))
            }
        # A NULL in the kept row would cut the dependents off without a word: they stay and are
        # told.
        filled_in = [cell.is_not(None) for cell in there]
        new = dict(zip(aims, values, strict=True))
        self._gate.run(sa.update(clause).values({**new, **marks}).where(*meets, *filled_in))

    def _marked(self, clause: sa.TableClause, mark: Mark) -> sa.ColumnElement[Any]:
        """The mark that a row gets, unless it has a higher one."""
        return sa.case(
            (clause.c.round > mark.value, clause.c.round), else_=sa.literal_column(str(mark.value))
        )

    def _aims(self, reference: Reference, images: StoredKeys) -> list[sa.ColumnElement[Any]]:
        return self._statements.new_columns(images, reference.columns)

    def _pointing(self, reference: Reference, images: StoredKeys) -> list[sa.ColumnElement[Any]]:
        """The new values of a reference, in the form in which the engine compares them with the
        referred ones."""
        cells = dict(zip(reference.columns, self._aims(reference, images), strict=True))
        return self._statements.pointing(reference, SimpleNamespace(c=cells))  # type: ignore[arg-type]  # only c is used

    def leave(self, images: StoredKeys, reference: Reference, gone: KeySet) -> None:
        clause = self._statements.key_table(images)
        pointing = self._pointing(reference, images)
        lost = self._statements.points_into(reference, pointing, gone)
        wrong = [lost]
        if reference.is_self:
            own = self._statements.key_columns(images, reference.referred)
            wrong.append(sa.and_(*self._statements.meets(reference, pointing, own)))
        self._gate.run(sa.delete(clause).where(sa.or_(*wrong)))

    # Counting

    def count_images(self, images: StoredKeys) -> dict[Mark, int]:
        clause = self._statements.key_table(images)
        found = self._gate.run(sa.select(clause.c.round, sa.func.count()).group_by(clause.c.round))
        return {Mark(mark): int(rows) for mark, rows in map(tuple, found)}

    def count_shifted(self, images: StoredKeys, columns: Sequence[str]) -> int:
        clause = self._statements.table(images.table)
        new = self._statements.new_columns(images, columns)
        shifted = [
            clause.c[name].is_distinct_from(value) for name, value in zip(columns, new, strict=True)
        ]
        return self._gate.number(self._count_both(images).where(balanced("OR", shifted)))

    def _count_both(self, images: StoredKeys) -> Rows:
        rows: Rows = sa.select(sa.func.count()).select_from(self._both(images))
        return self._statements.met(rows)

    def _both(self, images: StoredKeys) -> sa.Join:
        """Rows beside their new values."""
        return self._statements.key_table(images).join(
            self._statements.table(images.table), self._is_own(images)
        )

    def _is_own(self, images: KeySet) -> sa.ColumnElement[bool]:
        clause, names = self._statements.table(images.table), images.table.identity
        pairs = zip(names, self._statements.key_columns(images, names), strict=True)
        return sa.and_(*(clause.c[name] == key for name, key in pairs))

    def count_still(self, reference: Reference, gone: KeySet, images: StoredKeys) -> int:
        clause = self._statements.key_table(images)
        still = self._statements.points_into(reference, self._pointing(reference, images), gone)
        rows = sa.select(sa.func.count()).select_from(clause)
        return self._gate.number(
            rows.where(still, clause.c.round != sa.literal_column(str(Mark.WAITING.value)))
        )

    def count_loops(self, reference: Reference, images: Sequence[StoredKeys]) -> int:
        """Walk up from every row with a new value, by new values where there are some."""
        row = self._statements.table(reference.child).alias(self._statements.own("row"))
        parts = range(len(reference.columns))
        starts = []
        for one in images:
            own, aims = (
                self._statements.key_columns(one, reference.referred),
                self._aims(reference, one),
            )
            named = [cell.label(f"s{place}") for place, cell in enumerate(own)]
            ahead = [cell.label(f"a{place}") for place, cell in enumerate(aims)]
            starts.append(sa.select(*named, *ahead).where(*(cell.is_not(None) for cell in aims)))
        walk = (
            sa.union(*starts)
            .subquery(self._statements.own("starts"))
            .select()
            .cte(self._statements.own("walk"), recursive=True)
        )
        path = walk.join(
            row,
            sa.and_(*(row.c[name] == walk.c[f"a{n}"] for n, name in enumerate(reference.referred))),
        )
        aims = [row.c[name] for name in reference.columns]
        for number, one in enumerate(reversed(images)):
            other = self._statements.key_table(one).alias(self._statements.own(f"other_{number}"))
            names = one.table.identity
            path = path.join(
                other,
                sa.and_(*(row.c[n] == other.c[f"c{place}"] for place, n in enumerate(names))),
                True,
            )
            new = [other.c[f"n{one.new.index(name)}"] for name in reference.columns]
            aims = [
                sa.case((other.c.c0.is_not(None), now), else_=aim)
                for now, aim in zip(new, aims, strict=True)
            ]
        step: Rows = sa.select(*(walk.c[f"s{place}"] for place in parts), *aims).select_from(path)
        # UNION and not UNION ALL: a loop that was there before must end the walk, too.
        walk = walk.union(step.where(*(aim.is_not(None) for aim in aims)))
        # Only loops back to the start count: those that others are in are found from there.
        met = [walk.c[f"a{place}"] == walk.c[f"s{place}"] for place in parts]
        found = (
            sa.select(*(walk.c[f"s{place}"] for place in parts))
            .where(*met)
            .distinct()
            .subquery(self._statements.own("loops"))
        )
        return self._gate.number(sa.select(sa.func.count()).select_from(found))

    # Collisions

    def find_collisions(
        self, images: StoredKeys, gone: KeySet, unique: Unique, into: StoredKeys
    ) -> int:
        carried = [f"c{place}" for place in range(len(images.columns))]
        moved, there = self._look_for(images, gone, unique, carried)
        parts = range(len(unique.parts or unique.columns))
        every = sa.union_all(moved, there).subquery(self._statements.own("every"))
        shared: list[sa.ColumnElement[Any]] = [every.c[f"u{place}"] for place in parts]
        if not unique.parts:
            named = zip(shared, unique.columns, strict=True)
            shared = [
                self._statements.sorted_as(cell, images.table.column(name)) for cell, name in named
            ]
        filled = [every.c[f"u{place}"].is_not(None) for place in parts if unique.nulls_differ]
        identity = [every.c[carried[images.columns.index(name)]] for name in images.table.identity]
        ties = [every.c[f"t{place}"] for place in range(len(images.table.tie_breakers))]
        window: dict[str, Any] = {
            "partition_by": shared,
            "order_by": [every.c.moved, *ties, *identity],
        }
        ranked = (
            sa.select(
                *(every.c[name] for name in carried),
                sa.func.row_number().over(**window).label("place"),
                *(
                    sa.func.first_value(every.c[name]).over(**window).label(f"k{name}")
                    for name in carried
                ),
            )
            .where(*filled)
            .subquery(self._statements.own("ranked"))
        )
        # The first of those that are alike is the one that the others give way to.
        firsts = [ranked.c[f"k{carried[into.columns.index(name)]}"] for name in into.new]
        surplus = sa.select(*(ranked.c[name] for name in carried), sa.literal_column("-1"), *firsts)
        return self._database.fill(
            into, self._statements.fill_plain(into, surplus.where(ranked.c.place > _ONE))
        )

    def _look_for(
        self, images: StoredKeys, gone: KeySet, unique: Unique, carried: Sequence[str]
    ) -> tuple[Rows, Rows]:
        """Rows with their new values, and others that stay and are like one of them: their keys as
        c0, …, whether they change, what breaks ties as t0, …, and what must be unique as u0, …"""
        clause, keys = self._statements.table(images.table), self._statements.key_table(images)
        new = dict(zip(images.new, self._statements.new_columns(images, images.new), strict=True))
        breakers = enumerate(images.table.tie_breakers)
        ties = [clause.c[name].label(f"t{place}") for place, name in breakers]
        differs = [
            clause.c[name].is_distinct_from(new[name]) for name in sorted(unique.uses & new.keys())
        ]
        shifted = sa.case((sa.or_(*differs), _ONE), else_=_ZERO)
        named = zip(carried, self._statements.carried(images), strict=True)
        own = [cell.label(name) for name, cell in named]
        other = [self._statements.lacks_identity(images), self._statements.lacks_identity(gone)]
        if unique.parts:
            return self._look_for_parts(images, unique, carried, (new, ties, shifted, own, other))
        values = [new[name] for name in unique.columns]
        cells = [clause.c[name] for name in unique.columns]
        marked = [keys.c[name] for name in carried]
        moved: Rows = sa.select(*marked, shifted.label("moved"), *ties, *_numbered(values))
        there: Rows = sa.select(*own, _ZERO.label("moved"), *ties, *_numbered(cells))
        same = as_tuple(cells).in_(sa.select(*values))
        return moved.select_from(self._both(images)), there.where(same, *other)

    def _look_for_parts(
        self,
        images: StoredKeys,
        unique: Unique,
        carried: Sequence[str],
        cells: tuple[Any, Any, Any, Any, Any],
    ) -> tuple[Rows, Rows]:
        """The same where what must be unique are expressions: they name the columns of the table,
        which stand in a query with the values that they will have."""
        new, ties, shifted, own, other = cells
        clause, keys = self._statements.table(images.table), self._statements.key_table(images)
        names = images.table.column_names
        after = [new.get(name, clause.c[name]).label(name) for name in names]
        before = [clause.c[name] for name in names]
        marked = [keys.c[name].label(f"yeldro_{name}") for name in carried]
        kept = [cell.element.label(f"yeldro_{cell.name}") for cell in own]
        changing = sa.select(*marked, shifted.label("yeldro_moved"), *_hidden(ties), *after)
        staying = sa.select(*kept, _ZERO.label("yeldro_moved"), *_hidden(ties), *before)
        changing = changing.select_from(self._both(images))
        moved = self._shape(changing, unique, carried, len(ties))
        there = self._shape(staying.where(*other), unique, carried, len(ties))
        aims = moved.subquery(self._statements.own("aims"))
        found = there.subquery(self._statements.own("found"))
        pairs = [(aims.c[f"u{n}"], found.c[f"u{n}"]) for n in range(len(unique.parts))]
        met = sa.exists().where(*(aim.is_not_distinct_from(cell) for aim, cell in pairs))
        return moved, sa.select(*found.c).where(met.correlate(found))

    def _shape(self, rows: Rows, unique: Unique, carried: Sequence[str], ties: int) -> Rows:
        look = rows.subquery(self._statements.own("look"))
        kept = [
            look.c[f"yeldro_{name}"].label(name)
            for name in [*carried, "moved", *(f"t{n}" for n in range(ties))]
        ]
        parts: list[sa.ColumnElement[Any]] = [
            sa.literal_column(f"({part})") for part in unique.parts
        ]
        shaped: Rows = sa.select(*kept, *_numbered(parts)).select_from(look)
        return (
            shaped.where(sa.literal_column(f"({unique.predicate})")) if unique.predicate else shaped
        )

    def pass_on(self, gone: StoredKeys) -> int:
        clause = self._statements.key_table(gone)
        # A gave way to B, and B itself goes by now: A gives way to what B gave way to.
        next_one = clause.alias(self._statements.own("next"))
        names = gone.table.identity
        same = [
            cell == next_one.c[f"c{gone.columns.index(name)}"]
            for name, cell in zip(names, self._statements.new_columns(gone, names), strict=True)
        ]
        new = {clause.c[f"n{place}"]: next_one.c[f"n{place}"] for place in range(len(gone.new))}
        return self._gate.run(sa.update(clause).values(new).where(*same)).rowcount

    def list_pairs(self, keys: StoredKeys, limit: int) -> list[tuple[Row, Row]]:
        names, shown = keys.table.identity, keys.table.telling
        key_table, table = self._statements.key_table(keys), self._statements.table(keys.table)
        own, there = (table.alias(self._statements.own(name)) for name in ("own", "other"))
        places = (self._statements.key_columns, own), (self._statements.new_columns, there)
        joined: sa.FromClause = key_table
        for find, rows in places:
            pairs = zip(names, find(keys, names), strict=True)
            joined = joined.join(rows, sa.and_(*(rows.c[name] == cell for name, cell in pairs)))
        cells = [rows.c[name] for _, rows in places for name in shown]
        wanted = sa.select(*cells).select_from(joined)
        wanted = wanted.order_by(*self._statements.key_columns(keys, names)).limit(limit)
        found = [tuple(row) for row in self._gate.run(wanted)]
        return [(row[: len(shown)], row[len(shown) :]) for row in found]

    def count_otherwise(self, keys: StoredKeys, other: KeySet) -> int:
        one, two = self._statements.key_table(keys), self._statements.key_table(other)
        same = [
            one.c[f"c{place}"] == two.c[f"c{place}"] for place in range(len(keys.table.identity))
        ]
        values = [
            one.c[f"n{place}"].is_distinct_from(two.c[f"n{place}"])
            for place in range(len(keys.new))
        ]
        rows = sa.select(sa.func.count()).select_from(one.join(two, sa.and_(*same)))
        return self._gate.number(rows.where(balanced("OR", values)))

    # Clearing

    def can_hold(self, column: Column, value: str) -> bool:
        cell = self._statements.assigned(sa.literal_column(value), column)
        # The database is only asked whether it can work it out.
        number = sa.select(sa.case((cell.is_(None), _ONE), else_=_ONE))
        return self._database.try_to_count(number) is not None

    def find_cleared(self, keys: KeySet, images: StoredKeys, values: Mapping[str, str]) -> int:
        table = keys.table
        clause = self._statements.table(table)
        cleared = {
            name: self._statements.assigned(sa.literal_column(text), table.column(name))
            for name, text in values.items()
        }
        new = [cleared.get(name, clause.c[name]) for name in images.new]
        rows: Rows = sa.select(*self._statements.carried(images), _ONE, *new)
        same = self._is_as(table, tuple(values), cleared)
        wanted = rows.where(self._statements.has_identity(keys), sa.not_(same))
        # They were locked when they were matched.
        found = self._database.fill(images, self._statements.fill_plain(images, wanted))
        if self._statements.holding or set(values.values()) == {"NULL"}:
            return found
        # A default is written in another form than the column holds it: '1' for 1.
        return found - self._leave_unchanged(images, tuple(values))

    def _leave_unchanged(self, images: StoredKeys, columns: Sequence[str]) -> int:
        """Take the rows out that hold their new values already. Returns how many."""
        clause = self._statements.key_table(images)
        new = dict(zip(columns, self._statements.new_columns(images, columns), strict=True))
        same = self._is_as(images.table, columns, new)
        there = sa.exists().select_from(self._statements.table(images.table))
        unchanged = there.where(self._is_own(images), same).correlate(clause)
        return self._gate.run(sa.delete(clause).where(unchanged)).rowcount

    def _is_as(
        self, table: Table, columns: Sequence[str], cells: Mapping[str, sa.ColumnElement[Any]]
    ) -> sa.ColumnElement[bool]:
        """Whether a row holds exactly these values, and not only equal ones."""
        other: Any = SimpleNamespace(c=cells)
        return self._statements.is_same(table, columns, self._statements.table(table), other)

    def count_cleared(self, images: StoredKeys, columns: Sequence[str]) -> int:
        new = dict(zip(columns, self._statements.new_columns(images, columns), strict=True))
        same = self._is_as(images.table, columns, new)
        return self._gate.number(self._count_both(images).where(same))

    def count_unfit(self, reference: Reference, images: StoredKeys) -> int:
        after = self._values_after(images)
        cells = [after[name] for name in reference.columns]
        there = self._statements.table(reference.parent).alias(self._statements.own("other"))
        rows: Any = SimpleNamespace(c=after)
        meets = self._statements.meets(
            reference,
            self._statements.seeking(reference, rows),
            [there.c[name] for name in reference.referred],
        )
        found = sa.exists().select_from(there).where(*meets)
        there_are = [cell.is_not(None) for cell in cells]
        unfit = sa.and_(*there_are, sa.not_(found))
        if reference.match_full:
            unfit = sa.or_(unfit, sa.and_(sa.or_(*there_are), sa.not_(sa.and_(*there_are))))
        return self._gate.number(self._count_both(images).where(unfit))

    def count_failing(self, images: StoredKeys, check: str) -> int | None:
        after = [cell.label(name) for name, cell in self._values_after(images).items()]
        # Under the table's own name, which may stand before the names of its columns.
        look = sa.select(*after).select_from(self._both(images)).subquery(images.table.name.name)
        fails: sa.ColumnElement[bool] = sa.literal_column(f"NOT ({check})", sa.Boolean)
        rows: Rows = sa.select(sa.func.count()).select_from(look).where(fails)
        return self._database.try_to_count(rows)

    def _values_after(self, images: StoredKeys) -> dict[str, sa.ColumnElement[Any]]:
        """What each column of rows with new values will hold."""
        clause = self._statements.table(images.table)
        new = dict(zip(images.new, self._statements.new_columns(images, images.new), strict=True))
        return {name: new.get(name, clause.c[name]) for name in images.table.column_names}

    # Changing

    def change(
        self,
        images: KeySet,
        columns: Sequence[str],
        waits: Sequence[str] = (),
        *,
        late: bool = False,
    ) -> int:
        keys = self._statements.key_table(images)
        waiting = keys.c.round == sa.literal_column(str(Mark.WAITING.value))
        values = {
            name: sa.case((waiting, sa.null()), else_=cell) if name in waits and not late else cell
            for name, cell in zip(
                columns, self._statements.new_columns(images, columns), strict=True
            )
        }
        return self._change(images, values, [waiting] if late else [])

    def _change(
        self,
        images: KeySet,
        values: dict[str, sa.ColumnElement[Any]],
        only: Sequence[sa.ColumnElement[bool]],
    ) -> int:
        clause = self._statements.table(images.table)
        new = {clause.c[name]: value for name, value in values.items()}
        update = sa.update(clause).values({**self._statements.untouched(images.table), **new})
        return self._gate.run(update.where(self._is_own(images), *only)).rowcount

    def count_changed(self, images: StoredKeys, columns: Sequence[str]) -> dict[Mark, int]:
        """A row whose own key changed is looked for by the new one."""
        clause, keys = self._statements.table(images.table), self._statements.key_table(images)
        new = dict(zip(columns, self._statements.new_columns(images, columns), strict=True))
        names = images.table.identity
        own = dict(zip(names, self._statements.key_columns(images, names), strict=True))
        place = [clause.c[name] == new.get(name, own[name]) for name in names]
        there = [clause.c[name].is_not_distinct_from(value) for name, value in new.items()]
        rows: Rows = sa.select(keys.c.round, sa.func.count()).select_from(
            keys.join(clause, sa.and_(*place))
        )
        found = self._gate.run(rows.where(balanced("AND", there)).group_by(keys.c.round))
        return {Mark(mark): int(count) for mark, count in map(tuple, found)}


def _numbered(cells: Sequence[sa.ColumnElement[Any]]) -> list[sa.Label[Any]]:
    return [cell.label(f"u{place}") for place, cell in enumerate(cells)]


def _hidden(cells: Sequence[sa.Label[Any]]) -> list[sa.Label[Any]]:
    """Under names that no column of the table has."""
    return [cell.element.label(f"yeldro_{cell.name}") for cell in cells]
