"""The statements that archive rows and put them back. Nothing is sent here."""

from __future__ import annotations

from abc import abstractmethod
from collections.abc import Callable, Sequence
from types import SimpleNamespace
from typing import Any

import sqlalchemy as sa

from yeldro.core.database.archive_format import Piece, Portion, Stage
from yeldro.core.model.key_set import KeySet, StoredKeys, WholeTable
from yeldro.core.model.schema import Column, Reference, Table, TableName
from yeldro.engines.shared.statements import MATCHED, Rows, Statements, Words, as_tuple, bare

# The column of a copy inside the database that tells the portions of one table apart.
_PORTION = "yeldro_portion"


class StageStatements(Statements):
    """A stage is a temporary table with the archived columns of its table."""

    def __init__(self, key_schema: str | None, adapt: Callable[[Any], Any]) -> None:
        super().__init__(key_schema, adapt)
        self._stages: dict[Stage, sa.TableClause] = {}

    def staged(self, stage: Stage) -> sa.TableClause:
        """The clause of a stage, always the same one."""
        if stage not in self._stages:
            columns: list[sa.ColumnClause[Any]] = [
                sa.column(name) for name, _ in stage.portion.cells
            ]
            self._stages[stage] = sa.table(stage.name, *columns, schema=self.key_schema)
        return self._stages[stage]

    # What an engine sees as identical, which is more than equal

    @abstractmethod
    def is_same(
        self, table: Table, names: Sequence[str], own: sa.FromClause, other: sa.FromClause
    ) -> sa.ColumnElement[bool]:
        """Whether two rows hold the same bytes in some columns."""

    @abstractmethod
    def image(
        self, table: Table, names: Sequence[str], clause: sa.FromClause
    ) -> sa.ColumnElement[str]:
        """A text that is the same for two rows where their bytes are."""

    def mark(self, image: sa.ColumnElement[Any]) -> sa.ColumnElement[Any]:
        """What is the same for two images where they are, and can be looked up by."""
        return image

    # Copying

    def copied(self, portion: Portion, keys: KeySet) -> list[tuple[Column, sa.ColumnElement[Any]]]:
        """What is copied of a row, each with its column: its values, then what some will be left
        with."""
        table, clause = portion.table, self.table(portion.table)
        left = self.new_columns(keys, portion.changed) if portion.keeps_left else []
        names = [*portion.columns, *(portion.changed if left else ())]
        return list(
            zip(
                map(table.column, names),
                [*(clause.c[name] for name in portion.columns), *left],
                strict=True,
            )
        )

    def copied_keys(self, keys: StoredKeys) -> list[tuple[Column, sa.ColumnElement[Any]]]:
        """What is copied of a key set itself."""
        columns = map(keys.table.column, keys.columns)
        return list(zip(columns, self.key_columns(keys, keys.columns), strict=True))

    def select_copied(
        self, portion: Portion, keys: KeySet, cells: Sequence[sa.ColumnElement[Any]]
    ) -> Rows:
        clause = self.table(portion.table)
        if not portion.keeps_left:
            return sa.select(*cells).select_from(clause).where(self.has_identity(keys))
        return self.select_beside(keys, cells)

    def select_beside(self, keys: KeySet, cells: Sequence[sa.ColumnElement[Any]]) -> Rows:
        """Of the rows of a stored key set, each beside its key."""
        clause, names = self.table(keys.table), keys.table.identity
        own = [
            clause.c[name] == key
            for name, key in zip(names, self.key_columns(keys, names), strict=True)
        ]
        return sa.select(*cells).select_from(clause.join(self.key_rows(keys), sa.and_(*own)))

    def select_images(
        self, keys: KeySet, columns: Sequence[str], shown: Sequence[str], *, apart: bool
    ) -> Rows:
        """What rows look like; 1, or with `apart` 0 for one that was not matched itself; and the
        columns `shown`."""
        clause = self.table(keys.table)
        matched: sa.ColumnElement[int] = sa.literal_column("1")
        if apart and not isinstance(keys, WholeTable):
            own = self.key_rows(keys).c.round == sa.literal_column(MATCHED)
            matched = sa.case((own, matched), else_=sa.literal_column("0"))
        cells: list[sa.ColumnElement[Any]] = [
            self.image(keys.table, columns, clause).label("image"),
            matched,
        ]
        cells += [clause.c[name] for name in shown]
        if apart and not isinstance(keys, WholeTable):
            return self.select_beside(keys, cells)
        return self.select_copied(Portion(0, keys.table, tuple(columns), 0), keys, cells)

    def make_copy_table(self, name: TableName, portion: Portion, changed: Sequence[str]) -> Words:
        table = sa.table(name.name, schema=name.schema)
        return Words("CREATE TABLE", table, "AS", bare(self.select_empty_copy(portion, changed)))

    def select_empty_copy(self, portion: Portion, changed: Sequence[str]) -> Rows:
        """The columns of a copy inside the database, and no row."""
        clause = self.table(portion.table)
        number: sa.ColumnElement[int] = sa.literal_column("0").label(_PORTION)
        # The columns of an outer join may be NULL, whatever they are in their table: not every
        # portion fills them.
        other = clause.alias(self.own("other"))
        left = [other.c[column].label(portion.left(column)) for column in changed]
        rows = (
            clause.outerjoin(other, sa.literal_column("1") == sa.literal_column("0"))
            if left
            else clause
        )
        columns = [clause.c[name] for name in portion.columns]
        return sa.select(*columns, number, *left).select_from(rows).where(sa.false())

    def copy_into(self, name: TableName, piece: Piece) -> sa.Insert:
        """Columns that may be NULL get it: MariaDB has no default for them in a copy."""
        portion, keys = piece.portion, piece.keys
        empty = [portion.left(column) for column in piece.unfilled]
        cells = [*(cell for _, cell in self.copied(portion, keys)), *(sa.null() for _ in empty)]
        return self.insert_copied(
            name,
            piece,
            self.select_copied(portion, keys, [*cells, sa.literal_column(str(portion.number))]),
        )

    def insert_copied(self, name: TableName, piece: Piece, rows: Rows) -> sa.Insert:
        empty = [piece.portion.left(column) for column in piece.unfilled]
        names = [*(column for column, _ in piece.portion.cells), *empty]
        return sa.insert(_copy(name, piece.portion, empty)).from_select([*names, _PORTION], rows)

    def stage_copy(self, stage: Stage, name: TableName) -> Words:
        return Words(
            "CREATE TEMPORARY TABLE",
            sa.table(stage.name),
            "AS",
            bare(self.select_copy(stage, name)),
        )

    def select_copy(self, stage: Stage, name: TableName) -> Rows:
        """The rows of a stage in a copy inside the database."""
        copy = _copy(name, stage.portion)
        rows = sa.select(*(copy.c[column] for column, _ in stage.portion.cells))
        return rows.where(copy.c[_PORTION] == sa.literal_column(str(stage.portion.number)))

    def count_unset(self, keys: KeySet, columns: Sequence[str]) -> Rows:
        clause = self.table(keys.table)
        return self.count_present(keys).where(
            sa.or_(*(clause.c[name].is_(None) for name in columns))
        )

    def count_alike(self, keys: KeySet, columns: Sequence[str]) -> Rows:
        clause = self.table(keys.table)
        mark = self.mark(self.image(keys.table, columns, clause))
        return self.count(keys.table).where(
            mark.in_(sa.select(mark).where(self.has_identity(keys)))
        )

    # Looking

    def is_there(self, stage: Stage) -> sa.ColumnElement[bool]:
        return sa.exists().where(*self._same_key(stage)).correlate(self.staged(stage))

    def _same_key(self, stage: Stage) -> list[sa.ColumnElement[bool]]:
        clause, staged = self.table(stage.table), self.staged(stage)
        return [clause.c[name] == self.looked_up(staged.c[name]) for name in stage.key]

    def looked_up(self, cell: sa.ColumnElement[Any]) -> sa.ColumnElement[Any]:
        """A value of a stage by which the table is to be searched, and not the other way round."""
        return cell

    def is_left(
        self, stage: Stage, left: Sequence[str], *, emptied: bool = False
    ) -> sa.ColumnElement[bool]:
        """Whether the columns that the run changed are still as it left them, or, `emptied`, NULL
        where they waited."""
        portion, clause = stage.portion, self.table(stage.table)
        if portion.keeps_left:
            waits = portion.waits if emptied else ()
            changed = [name for name in portion.changed if name not in waits]
            same = (
                self.is_same(stage.table, changed, clause, self._as_left(stage))
                if changed
                else sa.true()
            )
            return sa.and_(same, *(clause.c[name].is_(None) for name in waits))
        pairs = [
            (clause.c[name], self.assigned(sa.literal_column(text), stage.table.column(name)))
            for name, text in zip(portion.changed, left, strict=True)
        ]
        return sa.and_(*(cell.is_not_distinct_from(value) for cell, value in pairs))

    def _as_left(self, stage: Stage) -> Any:
        """The columns of staged rows as the run left them."""
        portion, staged = stage.portion, self.staged(stage)
        left = (
            {name: staged.c[portion.left(name)] for name in portion.changed}
            if portion.keeps_left
            else {}
        )
        return SimpleNamespace(c={**{name: staged.c[name] for name in portion.columns}, **left})

    def count_staged(self, stage: Stage) -> Rows:
        return sa.select(sa.func.count()).select_from(self.staged(stage))

    def stand(self, stage: Stage, left: Sequence[str]) -> Rows:
        """Keys that are there, those of them with the very row, and those that wait as a detachment
        left them."""
        portion, clause, staged = stage.portion, self.table(stage.table), self.staged(stage)
        same = self.is_same(stage.table, portion.changed or portion.columns, clause, staged)
        counts = [sa.func.count(), sa.func.count(sa.case((same, sa.literal_column("1"))))]
        if portion.changed:
            back = sa.and_(self.is_left(stage, left), sa.not_(same))
            counts.append(sa.func.count(sa.case((back, sa.literal_column("1")))))
            others = [name for name in portion.columns if name not in portion.changed]
            alike = self.is_same(stage.table, others, clause, staged)
            whole = sa.and_(sa.or_(same, self.is_left(stage, left)), alike)
            counts.append(sa.func.count(sa.case((whole, sa.literal_column("1")))))
        return self.met(
            sa.select(*counts).select_from(clause.join(staged, sa.and_(*self._same_key(stage))))
        )

    def waits(self, stage: Stage, left: Sequence[str]) -> sa.ColumnElement[bool]:
        """Whether a row is as the run left it, and not as it was."""
        same = self.is_same(
            stage.table, stage.portion.changed, self.table(stage.table), self.staged(stage)
        )
        return sa.and_(self.is_left(stage, left), sa.not_(same))

    def count_beside(
        self, stage: Stage, left: Sequence[str], earlier: Sequence[tuple[Stage, Sequence[str]]]
    ) -> Rows:
        clause, staged = self.table(stage.table), self.staged(stage)

        def is_in(other: Stage, *more: sa.ColumnElement[bool]) -> sa.ColumnElement[bool]:
            there = self.staged(other)
            same = [there.c[name] == staged.c[name] for name in stage.key]
            return sa.exists().where(*same, *more).correlate(staged, clause)

        kept = self.count_staged(stage).where(sa.or_(*(is_in(other) for other, _ in earlier)))
        both = clause.join(staged, sa.and_(*self._same_key(stage)))
        again = sa.select(sa.func.count()).select_from(both).where(self.waits(stage, left))
        again = again.where(
            sa.or_(*(is_in(other, self.waits(other, his)) for other, his in earlier))
        )
        return sa.select(kept.scalar_subquery(), again.scalar_subquery())

    def count_whole(self, stage: Stage) -> Rows:
        """How many staged rows are in the table as they are."""
        clause, staged = self.table(stage.table), self.staged(stage)
        same = self.is_same(stage.table, stage.portion.columns, clause, staged)
        both = clause.join(staged, sa.and_(*self._same_key(stage)))
        return self.met(sa.select(sa.func.count()).select_from(both).where(same))

    def count_differing(self, stage: Stage, columns: Sequence[str]) -> Rows:
        """For each column, how many staged rows have another value there than the row in the
        table.
        """
        clause, staged = self.table(stage.table), self.staged(stage)
        counts = [
            sa.func.count(
                sa.case(
                    (
                        sa.not_(self.is_same(stage.table, [name], clause, staged)),
                        sa.literal_column("1"),
                    )
                )
            )
            for name in columns
        ]
        return sa.select(*counts).select_from(clause.join(staged, sa.and_(*self._same_key(stage))))

    def is_other(self, table: Table, stages: Sequence[Stage]) -> list[sa.ColumnElement[bool]]:
        """Whether a row of a table is in none of its stages; where there is no key, like none of
        the staged rows."""
        clause = self.table(table)
        wanted = []
        for stage in stages:
            staged, names = self.staged(stage), stage.portion.columns
            if stage.key:
                own = [clause.c[name] for name in stage.key]
                listed = as_tuple(own).in_(sa.select(*(staged.c[name] for name in stage.key)))
                # No staged row has a NULL there, but another row may, and is in no list then.
                wanted.append(
                    sa.or_(*(cell.is_(None) for cell in own), self.fails(listed, stage.key))
                )
            else:
                images = sa.select(self.mark(self.image(table, names, staged)))
                wanted.append(self.mark(self.image(table, names, clause)).not_in(images))
        return wanted

    def digest_others(self, table: Table, stages: Sequence[Stage]) -> Rows:
        clause = self.table(table)
        image = self.image(table, table.column_names, clause)
        return (
            sa.select(sa.func.count(), *self.digest(image))
            .select_from(clause)
            .where(*self.is_other(table, stages))
        )

    def digest(self, image: sa.ColumnElement[Any]) -> list[sa.ColumnElement[Any]]:
        """Sums over a column, whatever its order, that are hardly ever the same for other values.
        Only asked where the database counts changes in total."""
        raise NotImplementedError

    def met(self, rows: Rows) -> Rows:
        """An engine whose transaction shows an old snapshot looks at, and locks, the latest
        rows.
        """
        return rows

    def count_staged_alike(self, stage: Stage) -> Rows:
        names = stage.portion.columns
        there = self.mark(self.image(stage.table, names, self.table(stage.table)))
        images = sa.select(self.mark(self.image(stage.table, names, self.staged(stage))))
        return self.count(stage.table).where(there.in_(images))

    def count_parentless(
        self, reference: Reference, stage: Stage, parents: Sequence[sa.FromClause]
    ) -> Rows:
        """How many staged rows point at a row that is neither in the table nor among staged
        `parents`."""
        staged = self.staged(stage)
        names = [name for name in reference.columns if name in staged.c]
        pointing = self.seeking(reference, staged)
        others: list[sa.FromClause] = [self.table(reference.parent).alias(self.own("parent"))]
        others += [parent.alias(self.own("staged")) for parent in parents]
        found = []
        for other in others:
            referred = [other.c[name] for name in reference.referred]
            rows: Rows = sa.select(sa.literal_column("1")).where(
                *self.meets(reference, pointing, referred)
            )
            found.append(self.met(rows.correlate(staged)).exists())
        filled = [staged.c[name].is_not(None) for name in names]
        # Each denied for itself: PostgreSQL makes a join of that, and of "neither … nor" a search
        # for each row.
        return self.met(self.count_staged(stage).where(*filled, *map(sa.not_, found)))

    # Choosing

    def is_listed(self, stage: Stage, listed: StoredKeys) -> sa.ColumnElement[bool]:
        staged = self.staged(stage)
        return self.is_in([staged.c[name] for name in stage.key], listed, stage.key)

    def pull_staged(
        self, stage: Stage, into: StoredKeys, reference: Reference | None, parents: StoredKeys
    ) -> sa.Insert:
        staged = self.staged(stage)
        if reference:
            among = self.points_into(reference, self.pointing(reference, staged), parents)
        else:
            among = self.is_in(
                [staged.c[name] for name in parents.columns], parents, parents.columns
            )
        pairs = zip(stage.key, self.key_columns(into, stage.key), strict=True)
        known = sa.exists().where(*(key == staged.c[name] for name, key in pairs)).correlate(staged)
        cells = [staged.c[name] for name in into.columns]
        return Statements.fill(
            self, into, sa.select(*cells, sa.literal_column("0")).where(among, sa.not_(known))
        )

    def drop_staged(self, stage: Stage, which: sa.ColumnElement[bool]) -> sa.Delete:
        return sa.delete(self.staged(stage)).where(which)

    # Putting back

    def insertable(self, stage: Stage) -> list[str]:
        return [name for name in stage.portion.columns if not stage.table.column(name).generated]

    def insert_staged(self, stage: Stage) -> sa.Insert | Words:
        names, staged = self.insertable(stage), self.staged(stage)
        return sa.insert(self.table(stage.table)).from_select(
            names, sa.select(*(staged.c[name] for name in names))
        )

    def empty_waiting(self, stage: Stage) -> sa.Update:
        clause = self.table(stage.table)
        nothing = {clause.c[name]: sa.null() for name in stage.portion.waits}
        update = sa.update(clause).values({**self.untouched(stage.table), **nothing})
        return update.where(*self._same_key(stage), self.is_left(stage, ()))

    def reattach(
        self, stage: Stage, left: Sequence[str], pairs: sa.FromClause | None = None
    ) -> sa.Update:
        """Give rows that are as the run left them what they held. Without a key, as many as look
        alike."""
        clause, staged, changed = self.table(stage.table), self.staged(stage), stage.portion.changed
        if stage.key:
            new: dict[sa.ColumnElement[Any], sa.ColumnElement[Any]] = {
                clause.c[name]: staged.c[name] for name in changed
            }
            rows = self._same_key(stage)
        else:
            pairs = self.pairs(stage, left).subquery(self.own("pairs")) if pairs is None else pairs
            new = {clause.c[name]: pairs.c[name] for name in changed}
            identity = enumerate(stage.table.identity)
            rows = [clause.c[name] == pairs.c[f"yeldro_own_{place}"] for place, name in identity]
        statement = sa.update(clause).values({**self.untouched(stage.table), **new})
        return statement.where(
            *rows, *([self.is_left(stage, left, emptied=True)] if stage.key else [])
        )

    def pairs(self, stage: Stage, left: Sequence[str]) -> Rows:
        """Staged rows with rows of the table that are alike but for what the detachment took, one
        to one."""
        clause, staged, table = self.table(stage.table), self.staged(stage), stage.table
        names = stage.portion.columns
        if not stage.portion.keeps_left:
            names = tuple(name for name in names if name not in stage.portion.changed)

        def numbered(rows: sa.FromClause, own: Sequence[sa.ColumnElement[Any]]) -> Rows:
            image = self.mark(
                self.image(table, names, self._as_left(stage) if rows is staged else rows)
            )
            number = sa.func.row_number().over(partition_by=image, order_by=image)
            return sa.select(
                *own, image.label("yeldro_image"), number.label("yeldro_number")
            ).select_from(rows)

        own = [
            clause.c[name].label(f"yeldro_own_{place}") for place, name in enumerate(table.identity)
        ]
        waiting = [] if stage.portion.keeps_left else [self.is_left(stage, left)]
        there = numbered(clause, own).where(*waiting).subquery(self.own("there"))
        back = numbered(staged, [staged.c[name] for name in stage.portion.changed]).subquery(
            self.own("back")
        )
        alike = sa.and_(
            there.c.yeldro_image == back.c.yeldro_image,
            there.c.yeldro_number == back.c.yeldro_number,
        )
        columns = [
            *(there.c[column.name] for column in own),
            *(back.c[name] for name in stage.portion.changed),
        ]
        return sa.select(*columns).select_from(there.join(back, alike))


def _copy(name: TableName, portion: Portion, more: Sequence[str] = ()) -> sa.TableClause:
    names = [*(name for name, _ in portion.cells), *more, _PORTION]
    columns: list[sa.ColumnClause[Any]] = [sa.column(column) for column in names]
    return sa.table(name.name, *columns, schema=name.schema)
