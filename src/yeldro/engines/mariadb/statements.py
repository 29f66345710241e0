"""The statements that MariaDB needs otherwise than the other engines. Nothing is sent here."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import sqlalchemy as sa
from msgspec.structs import replace
from sqlalchemy.ext.compiler import compiles

from yeldro.core.database.archive_format import Portion, Stage
from yeldro.core.model.key_set import (
    AlikeRows,
    DependentRows,
    KeySet,
    StoredKeys,
    WholeTable,
    stored,
)
from yeldro.core.model.schema import WHOLE_ROW, Column, Reference, Table, TableName
from yeldro.core.selection.selection import Selection
from yeldro.engines.mariadb.values import find_way, is_number
from yeldro.engines.shared.archive_statements import StageStatements
from yeldro.engines.shared.statements import Rows, Words, bare

# Some servers refuse tables without a primary key, temporary ones too (innodb_force_primary_key).
OWN_KEY = "(yeldro_row BIGINT UNSIGNED AUTO_INCREMENT PRIMARY KEY) ENGINE=InnoDB"


class CreateKeyTable(sa.sql.expression.Executable, sa.ClauseElement):
    """A temporary table with the types of a query's columns, a primary key over some of them, and
    indexes on others that it is looked up by. One that is `loose` takes rows in a third of the
    time, and keeps them whatever becomes of the transaction."""

    inherit_cache = False

    def __init__(
        self,
        name: str,
        key: Sequence[str],
        query: Rows,
        indexes: Sequence[Sequence[str]] = (),
        *,
        loose: bool = False,
    ) -> None:
        self.name = name
        self.key = key
        self.indexes = indexes
        self.query = query
        self.loose = loose


@compiles(CreateKeyTable)
def _create_key_table(element: CreateKeyTable, compiler: Any, **options: Any) -> str:
    query = compiler.process(element.query, **options)
    indexes = "".join(f", KEY ({', '.join(names)})" for names in element.indexes)
    key = (
        f"(PRIMARY KEY ({', '.join(element.key)}){indexes}) ENGINE=InnoDB"
        if element.key
        else OWN_KEY
    )
    if element.loose:
        # An index that only finds is built at once, by sorting; it holds all that is looked for.
        names = dict.fromkeys((*element.key, *(one.name for one in element.query.selected_columns)))
        key = f"(KEY ({', '.join(names)}){indexes}) ENGINE=MyISAM"
    return f"CREATE TEMPORARY TABLE {element.name} {key} AS {query}"


class Utf8(sa.sql.expression.ColumnElement[str]):
    """A text in UTF-8, whatever the character set of its column."""

    inherit_cache = False
    type = sa.Text()

    def __init__(self, cell: sa.ColumnElement[Any]) -> None:
        self.cell = cell

    @property
    def _from_objects(self) -> Any:
        return self.cell._from_objects


@compiles(Utf8)
def _compile_utf8(element: Utf8, compiler: Any, **options: Any) -> str:
    return f"CONVERT({compiler.process(element.cell, **options)} USING utf8mb4)"


class WholeRow(sa.ColumnClause[bytes]):
    """A digest of all values of a row, where a column of its table would stand."""

    inherit_cache = False

    def __init__(self, name: str, *arguments: Any, line: Any = None, **options: Any) -> None:
        super().__init__(name, *arguments, **options)
        self.line = line

    def _make_proxy(self, selectable: Any, *arguments: Any, **options: Any) -> Any:
        """An alias of the table has the same columns; a query shows a value like any other."""
        if not (
            isinstance(selectable, sa.Alias) and isinstance(selectable.element, sa.TableClause)
        ):
            plain: sa.ColumnClause[bytes] = sa.ColumnClause(self.name, self.type)
            plain.table = self.table
            return plain._make_proxy(selectable, *arguments, **options)
        key, proxy = super()._make_proxy(selectable, *arguments, **options)
        assert isinstance(proxy, WholeRow)
        proxy.line = self.line
        return key, proxy


@compiles(WholeRow)
def _compile_whole_row(element: WholeRow, compiler: Any, **options: Any) -> str:
    within = {name: options[name] for name in ("literal_binds",) if name in options}
    return f"UNHEX(SHA2({compiler.process(element.line(element.table), **within)}, 256))"


class JsonTable(sa.sql.functions.FunctionElement[Any]):
    """The whole numbers of a JSON array, a row each."""

    inherit_cache = True


@compiles(JsonTable)
def _json_table(element: JsonTable, compiler: Any, **options: Any) -> str:
    array = compiler.process(element.clauses, **options)
    return f"JSON_TABLE({array}, '$[*]' COLUMNS (c0 DECIMAL(20) PATH '$'))"


class DeleteByKeys(sa.sql.expression.Executable, sa.ClauseElement):
    """Delete the rows of a table that a key table names, walking the keys in their order, or,
    `turned`, the rows."""

    inherit_cache = False

    def __init__(
        self,
        table: sa.TableClause,
        keys: sa.FromClause,
        same: sa.ColumnElement[bool],
        *,
        turned: bool = False,
    ) -> None:
        self.table = table
        self.keys = keys
        self.same = same
        self.turned = turned

    def where(self, wanted: Sequence[sa.ColumnElement[bool]]) -> DeleteByKeys:
        """Only those of them that are so."""
        same = sa.and_(self.same, *wanted)
        return DeleteByKeys(self.table, self.keys, same, turned=self.turned)


@compiles(DeleteByKeys)
def _delete_by_keys(element: DeleteByKeys, compiler: Any, **options: Any) -> str:
    table, keys = (
        compiler.process(one, asfrom=True, **options) for one in (element.table, element.keys)
    )
    first, second = (table, keys) if element.turned else (keys, table)
    return (
        f"DELETE {table} FROM {first} STRAIGHT_JOIN {second} ON "
        f"{compiler.process(element.same, **options)}"
    )


class MariadbStatements(StageStatements):
    """`locking`: whether rows that are put into key sets are locked, which also makes it the latest
    rows. `demands_keys`: every table must have a primary key here."""

    locking = False
    demands_keys = False

    def exact(self, column: sa.ColumnElement[Any]) -> sa.ColumnElement[Any]:
        return sa.cast(column, sa.BINARY)

    def column(self, table: Table, name: str) -> sa.ColumnClause[Any]:
        if name != WHOLE_ROW:
            return super().column(table, name)
        return WholeRow(name, line=lambda clause: self.image(table, table.column_names, clause))

    def mark(self, image: sa.ColumnElement[Any]) -> sa.ColumnElement[Any]:
        return sa.func.unhex(sa.func.sha2(image, sa.literal_column("256")))

    def surplus_marks(self, keys: AlikeRows) -> tuple[sa.TableClause, Rows]:
        """The identities of the surplus rows of a ranking, one for each of them."""
        columns: list[sa.ColumnClause[Any]] = [sa.column("c0"), sa.column("place")]
        ranked = sa.table(keys.name, *columns, schema=self.key_schema)
        return ranked, sa.select(ranked.c.c0).where(ranked.c.place > sa.literal_column("1"))

    drop_temporary = "DROP TEMPORARY TABLE IF EXISTS"

    def has_identity(self, keys: KeySet) -> sa.ColumnElement[bool]:
        if isinstance(keys, AlikeRows):
            return self.table(keys.table).c[WHOLE_ROW].in_(self.surplus_marks(keys)[1])
        return super().has_identity(keys)

    def count_surplus(self, keys: AlikeRows) -> Rows:
        """Rows that look like a surplus one, less the kept ones among them."""
        ranked, marks = self.surplus_marks(keys)
        kept = sa.select(sa.func.count()).select_from(ranked)
        kept = kept.where(ranked.c.place == sa.literal_column("1"), ranked.c.c0.in_(marks))
        return sa.select(self.count_present(keys).scalar_subquery() - kept.scalar_subquery())

    def count_marks(self, keys: AlikeRows) -> Rows:
        """How many surplus rows look the same."""
        ranked, marks = self.surplus_marks(keys)
        return marks.add_columns(sa.func.count().label("rows")).group_by(ranked.c.c0)

    def count_other_marks(self, keys: AlikeRows, other: AlikeRows) -> Rows:
        one, two = (
            self.count_marks(which).subquery(self.own(f"{name}"))
            for which, name in ((keys, "a"), (other, "b"))
        )
        same = sa.and_(one.c.c0 == two.c.c0, one.c.rows == two.c.rows)
        rows = sa.select(sa.func.coalesce(sa.func.sum(one.c.rows), sa.literal_column("0")))
        return rows.select_from(one.join(two, same, isouter=True)).where(two.c.c0.is_(None))

    def select_surplus(self, keys: AlikeRows, cells: Sequence[sa.ColumnElement[Any]]) -> Rows:
        """Of rows that are alike, as many as are surplus: it does not matter which."""
        clause, marks = self.table(keys.table), self.surplus_marks(keys)[1]
        mark = clause.c[WHOLE_ROW]
        number = sa.func.row_number().over(partition_by=mark).label("yeldro_place")
        named = [cell.label(f"x{place}") for place, cell in enumerate(cells)]
        alike = (
            sa.select(*named, mark.label("yeldro_mark"), number)
            .where(mark.in_(marks))
            .subquery(self.own("rows"))
        )
        gone = self.count_marks(keys).subquery(self.own("gone"))
        met = sa.and_(alike.c.yeldro_mark == gone.c.c0, alike.c.yeldro_place <= gone.c.rows)
        return sa.select(*(alike.c[cell.name] for cell in named)).select_from(alike.join(gone, met))

    def count_all(self, table: Table) -> Rows:
        """Over the clustered index: in a secondary one every row that we changed would be looked up
        there again."""
        rows = super().count_all(table)
        return (
            rows.with_hint(self.table(table), "FORCE INDEX (PRIMARY)", "mysql")
            if table.key
            else rows
        )

    def delete_by_keys(self, keys: KeySet) -> DeleteByKeys:
        """IN (SELECT …) would be several times slower. A digest is worked out once for each row,
        and looked up."""
        fixed, same = self._by_keys(keys)
        turned = keys.table.shares_identity and not isinstance(keys, DependentRows)
        return DeleteByKeys(self.table(keys.table), self.key_rows(fixed), same, turned=turned)

    def delete_selected(self, selection: Selection, keys: KeySet) -> sa.Executable:
        """A condition names columns alone, and they are to be none of the key table's."""
        found = self.delete_by_keys(keys)
        if {name.lower() for name in selection.columns} & set(found.keys.c.keys()):
            return super().delete_selected(selection, keys)
        return found.where(self.is_selected(replace(selection, listed=None)))

    def _by_keys(self, keys: KeySet) -> tuple[StoredKeys, sa.ColumnElement[bool]]:
        """The stored keys that a key set goes by, and which rows of its table they mean."""
        if isinstance(keys, DependentRows):
            reference, parents = keys.reference, keys.parents
            referred = self.key_columns(parents, reference.referred)
            return parents, sa.and_(*self.meets(reference, self.pointing(reference), referred))
        names = keys.table.identity
        columns = [self.table(keys.table).c[name] for name in names]
        pairs = zip(columns, self.key_columns(keys, names), strict=True)
        return stored(keys), sa.and_(*(column == key for column, key in pairs))

    def count_left(self, reference: Reference, parents: KeySet) -> Rows:
        """Walking the keys. Not locking: that is for references that the engine does not keep."""
        return super().depending_on(self.count(reference.child), reference, parents)

    def select_copied(
        self, portion: Portion, keys: KeySet, cells: Sequence[sa.ColumnElement[Any]]
    ) -> Rows:
        """Walking the keys, and locking: a plain read would show an old snapshot."""
        clause = self.table(portion.table)
        if isinstance(keys, AlikeRows):
            return self.select_surplus(keys, cells)
        if isinstance(keys, WholeTable):
            return sa.select(*cells).select_from(clause)
        return self.select_beside(keys, cells)

    def select_beside(self, keys: KeySet, cells: Sequence[sa.ColumnElement[Any]]) -> Rows:
        fixed, same = self._by_keys(keys)
        clause, key_table = self.table(keys.table), self.key_rows(fixed)
        turned = keys.table.shares_identity and not isinstance(keys, DependentRows)
        both = clause.join(key_table, same) if turned else key_table.join(clause, same)
        rows: Rows = sa.select(*cells).select_from(both)
        return self.met(rows.prefix_with("STRAIGHT_JOIN"))

    def met(self, rows: Rows) -> Rows:
        return rows.with_for_update(read=True) if self.locking else rows

    def kept(self, cell: sa.ColumnElement[Any], column: Column) -> sa.ColumnElement[Any]:
        """The value in the form in which it is kept, NULL where it is NULL."""
        match find_way(column).name:
            case "hexadecimal":
                return sa.func.hex(cell)
            case "bytes":
                return sa.func.hex(sa.cast(cell, sa.BINARY))
            case "double":
                return sa.cast(cell, sa.Double)
            case "number":
                return cell.op("+")(sa.literal_column("0"))
            case "text":
                return Utf8(cell)
            case "own text":
                return sa.cast(cell, sa.CHAR)
            case _:
                return cell

    def line(self, cells: Sequence[tuple[Column, sa.ColumnElement[Any]]]) -> sa.ColumnElement[Any]:
        """Cells in the text form of COPY, but for line breaks. NULL where it is larger than the
        server can send."""
        parts: list[Any] = []
        for column, value in cells:
            cell = self.kept(value, column)
            if find_way(column).name == "text":
                for mark, escaped in ((r"'\\'", r"'\\\\'"), (r"'\t'", r"'\\t'")):
                    cell = sa.func.replace(
                        cell, sa.literal_column(mark), sa.literal_column(escaped)
                    )
            parts += [
                sa.literal_column(r"'\t'"),
                sa.func.coalesce(cell, sa.literal_column(r"'\\N'")),
            ]
        return sa.cast(sa.func.concat(*parts[1:]), sa.BINARY)

    def whole_line(
        self, cells: Sequence[tuple[Column, sa.ColumnElement[Any]]]
    ) -> sa.ColumnElement[Any]:
        """The same with line breaks escaped, too."""
        breaks: list[sa.ColumnElement[str]] = [
            sa.literal_column(text) for text in (r"'\n'", r"'\\n'")
        ]
        escaped: sa.ColumnElement[Any] = sa.func.replace(self.line(cells), *breaks)
        return escaped

    def is_same(
        self, table: Table, names: Sequence[str], own: sa.FromClause, other: sa.FromClause
    ) -> sa.ColumnElement[bool]:
        found: list[sa.ColumnElement[bool]] = []
        for name in names:
            column = table.column(name)
            cells: list[sa.ColumnElement[Any]] = [rows.c[name] for rows in (own, other)]
            if not is_number(column):
                cells = [sa.cast(self.kept(cell, column), sa.BINARY) for cell in cells]
            found.append(cells[0].op("<=>", is_comparison=True)(cells[1]))
        return sa.and_(*found)

    def image(
        self, table: Table, names: Sequence[str], clause: sa.FromClause
    ) -> sa.ColumnElement[str]:
        return self.line([(table.column(name), clause.c[name]) for name in names])

    def make_copy_table(self, name: TableName, portion: Portion, changed: Sequence[str]) -> Words:
        key = [OWN_KEY] if self.demands_keys else []
        table = sa.table(name.name, schema=name.schema)
        return Words(
            "CREATE TABLE", table, *key, "AS", bare(self.select_empty_copy(portion, changed))
        )

    def stage_copy(self, stage: Stage, name: TableName) -> Words:
        return Words(
            "CREATE TEMPORARY TABLE",
            sa.table(stage.name),
            OWN_KEY,
            "AS",
            bare(self.select_copy(stage, name)),
        )

    def digest(self, image: sa.ColumnElement[Any]) -> list[sa.ColumnElement[Any]]:
        """Two halves of a sum modulo 2 to the power of 64."""
        mark = sa.func.md5(image)
        halves = [
            sa.func.conv(sa.func.substr(mark, at, 16), sa.text("16"), sa.text("10"))
            for at in (1, 17)
        ]
        return [sa.func.sum(sa.cast(half, sa.DECIMAL(20))) for half in halves]

    def find_levels(self, reference: Reference, keys: KeySet, into: StoredKeys) -> sa.Insert:
        """Put rows into another key set, marked with how far they are from those that point out of
        the set.

        A row has one link, so it is met once; rows that reference each other in a cycle are not met
        at all.
        """
        levels = self._walk_up(reference, keys)
        return self.fill(into, sa.select(*levels.c))

    def count_leveled(self, reference: Reference, keys: KeySet) -> Rows:
        """How many rows of a key set are not in a cycle, and depend on none."""
        return sa.select(sa.func.count()).select_from(self._walk_up(reference, keys))

    def _walk_up(self, reference: Reference, keys: KeySet) -> sa.CTE:
        child, start, above = (
            self.table(reference.child),
            self.key_table(keys),
            self.key_table(keys).alias(),
        )
        names = [f"c{place}" for place in range(len(keys.columns))]
        rows = [
            child.c[name] == start.c[names[place]] for place, name in enumerate(keys.table.identity)
        ]

        def points_at(parent: sa.FromClause) -> list[sa.ColumnElement[bool]]:
            pairs = zip(reference.columns, reference.referred, strict=True)
            return [
                child.c[name] == parent.c[names[keys.columns.index(referred)]]
                for name, referred in pairs
            ]

        is_below = sa.exists().where(*points_at(above)).correlate(child)
        columns = [start.c[name] for name in names]
        walk = sa.select(*columns, sa.literal_column("0").label("level")).where(
            *rows, sa.not_(is_below)
        )
        levels = walk.cte(self.own("levels"), recursive=True)
        path = levels.join(child, sa.and_(*points_at(levels))).join(start, sa.and_(*rows))
        step = (
            sa.select(*columns, (levels.c.level + 1).label("level"))
            .select_from(path)
            .prefix_with("STRAIGHT_JOIN")
        )
        return levels.union_all(step)

    def delete_deepest_first(self, levels: StoredKeys) -> Words:
        clause, key_table = self.table(levels.table), self.key_table(levels)
        pairs = zip(
            levels.table.identity, self.key_columns(levels, levels.table.identity), strict=True
        )
        same = sa.and_(*(clause.c[name] == key for name, key in pairs))
        level = (key_table.c.round, "FROM", key_table, "WHERE", same)
        return Words(super().delete(levels), "ORDER BY (SELECT", *level, ") DESC")

    def depending_on(
        self, rows: Rows, reference: Reference, parents: KeySet, since: int | None = None
    ) -> Rows:
        """In a writing transaction a plain read shows an old snapshot: a locking one shows, and
        keeps, the latest."""
        found = super().depending_on(rows, reference, parents, since)
        return found.with_for_update(read=True) if self.locking else found

    def count_matching(self, selection: Selection) -> Rows:
        rows = super().count_matching(selection)
        return rows.with_for_update() if self.locking else rows

    def fill(self, into: KeySet, rows: Rows) -> sa.Insert:
        """Rows that are alike stand in a key set once."""
        rows = rows.distinct() if into.table.shares_identity else rows
        return super().fill(into, rows.with_for_update() if self.locking else rows)
