"""What the catalogue says: tables, columns, keys, references, triggers. Frozen values, the same for
every engine."""

from __future__ import annotations

import re
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from enum import StrEnum
from fnmatch import fnmatchcase
from functools import cached_property

from msgspec import Struct, field
from msgspec.structs import replace

from yeldro.core.model.lookup import find_named, nearest
from yeldro.errors import UsageError


class ReferentialAction(StrEnum):
    """What a reference does when what it points at goes or changes (ISO/IEC 9075-2, <delete rule>
    and <update rule>)."""

    CASCADE = "CASCADE"
    SET_NULL = "SET NULL"
    SET_DEFAULT = "SET DEFAULT"
    RESTRICT = "RESTRICT"
    NO_ACTION = "NO ACTION"


class Family(StrEnum):
    """What kind of value a column takes; decides how a value from the command line is read and
    shown."""

    TEXT = "text"
    INTEGER = "integer"
    NUMBER = "number"
    DATE = "date"
    TIMESTAMP = "timestamp"
    BOOLEAN = "boolean"
    OTHER = "other"


class TableName(Struct, frozen=True, order=True):
    schema: str
    name: str

    @property
    def folded(self) -> tuple[str, str]:
        """The same for names that differ in case only."""
        return self.schema.lower(), self.name.lower()


class Column(Struct, frozen=True):
    name: str
    type: str
    family: Family
    nullable: bool
    default: str | None = None
    generated: bool = False
    collation: str = ""
    on_update: bool = False
    """Whether every update of a row changes it by itself."""

    equality: str = ""
    """The engine's operator for two such values, in full, where a bare equal sign might mean
    another one."""


class Trigger(Struct, frozen=True):
    name: str
    event: str
    enabled: bool = True


class Index(Struct, frozen=True):
    name: str
    columns: tuple[str, ...]
    unique: bool


class Unique(Struct, frozen=True):
    """What no two rows of a table may have in common: `columns`, as they are shown.

    Where these are no plain columns, or there is more to it, `parts` are expressions of the engine
    over the table's columns, and `predicate` says for which rows it holds, "" for all.
    `nulls_differ`: a NULL among them is like no other. `uses` are the columns that it looks at.
    """

    columns: tuple[str, ...]
    uses: frozenset[str]
    parts: tuple[str, ...] = ()
    predicate: str = ""
    nulls_differ: bool = True


# The identity of rows that nothing but all of their values tells apart: a digest of these.
WHOLE_ROW = "yeldro_whole_row"


class Table(Struct, frozen=True, eq=False, dict=True):
    """A table or view.

    `label` is how a person names it (the schema is left out where it is the default one). `key` is
    the primary key, () without one. `identity` names what fixes one row: a key without NULLs, else
    the engine's own row number, else WHOLE_ROW, which rows that are alike in every column share; ()
    where there is nothing of the kind. `refusal` says why its rows cannot be deleted safely, ""
    where they can. `definition` is the SQL text of a view. `parts` are its partitions at every
    level, itself included. `weight` is how much the engine's own counter of changes counts for one
    row. `checks` are the texts of its CHECK constraints, `specials` its unique indexes on more, or
    less, than plain columns of all rows.
    """

    name: TableName
    label: str
    kind: str
    columns: tuple[Column, ...]
    key: tuple[str, ...]
    identity: tuple[str, ...]
    indexes: tuple[Index, ...] = ()
    triggers: tuple[Trigger, ...] = ()
    refusal: str = ""
    row_security: bool = False
    parts: frozenset[TableName] = frozenset()
    definition: str = ""
    weight: int = 1
    checks: tuple[str, ...] = ()
    specials: tuple[Unique, ...] = ()

    @cached_property
    def uniques(self) -> tuple[Unique, ...]:
        """Everything that keeps two rows apart."""
        plain = [index.columns for index in self.indexes if index.unique] + [self.key] * bool(
            self.key
        )
        known = dict.fromkeys(
            columns for columns in plain if set(columns) <= set(self.column_names)
        )
        return (*(Unique(columns, frozenset(columns)) for columns in known), *self.specials)

    def unique_with(self, changing: Collection[str]) -> list[Unique]:
        """What keeps two rows apart by one of these columns, among others."""
        return [unique for unique in self.uniques if unique.uses & set(changing)]

    @cached_property
    def lasting_keys(self) -> tuple[tuple[str, ...], ...]:
        """What may tell rows apart for good, best first: not a row number, which is given to other
        rows later.

        All but the identity may hold NULLs, and then tell nothing.
        """
        own = set(self.column_names)
        unique = [self.key, *(index.columns for index in self.indexes if index.unique)]
        return tuple(
            dict.fromkeys(key for key in (self.identity, *unique) if key and set(key) <= own)
        )

    @property
    def telling(self) -> tuple[str, ...]:
        """The columns by which a person tells rows apart: the key, else what is unique, else all;
        never a row number, which nobody knows."""
        return self.key or next(iter(self.lasting_keys), self.column_names)

    @property
    def shares_identity(self) -> bool:
        """Whether several rows may have one identity, because they are alike in every column."""
        return self.identity == (WHOLE_ROW,)

    @cached_property
    def tie_breakers(self) -> tuple[str, ...]:
        """What puts rows in the order of their key where something else fixes them: a key that may
        hold NULLs."""
        own = set(self.column_names)
        return self.key if set(self.key) <= own and not set(self.key) <= set(self.identity) else ()

    @cached_property
    def column_names(self) -> tuple[str, ...]:
        return tuple(column.name for column in self.columns)

    def column(self, name: str) -> Column:
        """The column of exactly this name. KeyError where there is none."""
        for column in self.columns:
            if column.name == name:
                return column
        raise KeyError(name)

    def find_column(self, text: str) -> Column:
        """The column that a person named, in any case. UsageError with the nearest
        names."""
        alike = find_named(text, self.columns, lambda column: [column.name])
        if len(alike) == 1:
            return alike[0]
        raise UsageError(
            f"There is no column {text!r} in {self.label}.",
            nearest(text, self.column_names, "columns"),
        )


class Reference(Struct, frozen=True, eq=False):
    """A foreign key: `columns` of `child` point at `referred` columns of `parent`, in the same
    order.

    `broken` says why the engine cannot use it, or why nobody can follow it ("" where all is well);
    one that is not `enforced` may have orphans, and is followed and checked all the same.
    `set_columns` are the columns that the declared SET NULL or SET DEFAULT touches. `operators` are
    those by which the engine compares each pair of columns, the referred one first, as they stand
    in a statement; () where these are plain equal signs. `match_full`: either all of its columns
    are NULL, or none. One that is checked `late` is checked at the commit.
    """

    name: str
    child: Table
    columns: tuple[str, ...]
    parent: Table
    referred: tuple[str, ...]
    on_delete: ReferentialAction
    set_columns: tuple[str, ...] = ()
    broken: str = ""
    enforced: bool = True
    declared: bool = True
    operators: tuple[str, ...] = ()
    match_full: bool = False
    on_update: ReferentialAction = ReferentialAction.NO_ACTION
    late: bool = False

    def __str__(self) -> str:
        return f"{_end(self.child, self.columns)} -> {_end(self.parent, self.referred)}"

    @property
    def nullable_columns(self) -> tuple[str, ...]:
        free = tuple(name for name in self.columns if _settable(self.child.column(name)))
        return free if free == self.columns or not self.match_full else ()

    @property
    def is_clearable(self) -> bool:
        """Whether rows that go may lose this reference first, as far as CHECK and UNIQUE
        constraints are known."""
        cleared = self.nullable_columns or self.columns
        named = re.compile(
            "|".join(rf"(?<!\w){re.escape(name)}(?!\w)" for name in cleared), re.IGNORECASE
        )
        if any(named.search(check) for check in self.child.checks):
            return False
        # Without a column that may be NULL a row would point at itself, where another one may still
        # point at it too.
        unique = any(
            index.unique and set(index.columns) & set(cleared) for index in self.child.indexes
        )
        return bool(self.nullable_columns) or not unique

    @property
    def is_self(self) -> bool:
        return self.child.name == self.parent.name

    @property
    def is_indexed(self) -> bool:
        """Whether some index of the child begins with one of the columns, so that a lookup need not
        scan."""
        return any(
            index.columns[0] in self.columns for index in self.child.indexes if index.columns
        )


def _settable(column: Column) -> bool:
    return column.nullable and not column.generated


def _end(table: Table, columns: tuple[str, ...]) -> str:
    return (
        f"{table.label}.{columns[0]}"
        if len(columns) == 1
        else f"{table.label}.({', '.join(columns)})"
    )


UNDECLARED_RULES = {
    "delete": ReferentialAction.CASCADE,
    "detach": ReferentialAction.SET_NULL,
    "stop": ReferentialAction.NO_ACTION,
}


class Undeclared(Struct, frozen=True):
    """A reference that the schema does not declare, as it stands in yeldro.toml."""

    child: str
    columns: tuple[str, ...]
    parent: str
    referred: tuple[str, ...]
    on_delete: ReferentialAction


class Schema(Struct, frozen=True, dict=True):
    """All tables and views in name order, and all references in the order of their child tables.

    `hidden` says of tables why they may be referenced by others that this account cannot see, and
    what would show them.
    """

    tables: tuple[Table, ...]
    references: tuple[Reference, ...]
    hidden: Mapping[TableName, str] = field(default_factory=dict)

    @cached_property
    def by_name(self) -> dict[TableName, Table]:
        return {table.name: table for table in self.tables}

    @cached_property
    def acting(self) -> tuple[Reference, ...]:
        """The references as they act on each table: one that points at a partitioned table points
        at its partitions too, and one that points at a partition at the partitioned table."""
        return tuple(aimed for reference in self.references for aimed in self._aim(reference))

    def _aim(self, reference: Reference) -> Iterator[Reference]:
        yield reference
        parent = reference.parent
        for table in self._related.get(parent.name, ()):
            if parent.name not in table.parts or _has_key(table, reference.referred):
                yield replace(reference, parent=table)
            else:
                reason = (
                    f"It points at {parent.label}, a partition, by columns that are unique in that "
                    "one alone"
                )
                yield replace(reference, parent=table, broken=reference.broken or reason)

    @cached_property
    def _related(self) -> dict[TableName, tuple[Table, ...]]:
        """For each table the partitioned tables that it is part of, and its own partitions."""
        pairs = [
            (table, self.by_name[name])
            for table in self.tables
            for name in table.parts
            if name in self.by_name
        ]
        found: dict[TableName, dict[Table, None]] = {}
        for whole, part in pairs:
            if whole is not part:
                found.setdefault(whole.name, {})[part] = None
                found.setdefault(part.name, {})[whole] = None
        return {name: tuple(tables) for name, tables in found.items()}

    @cached_property
    def partitions(self) -> frozenset[TableName]:
        """The tables that are part of another one."""
        return frozenset(
            name for table in self.tables for name in table.parts if name != table.name
        )

    @cached_property
    def _incoming(self) -> dict[TableName, tuple[Reference, ...]]:
        return _grouped(self.acting, lambda reference: reference.parent.name)

    @cached_property
    def _outgoing(self) -> dict[TableName, tuple[Reference, ...]]:
        inherited = [
            replace(reference, child=self.by_name[name])
            for reference in self.references
            for name in sorted(reference.child.parts)
            if name != reference.child.name and name in self.by_name
        ]
        return _grouped((*self.references, *inherited), lambda reference: reference.child.name)

    def incoming(self, table: Table) -> tuple[Reference, ...]:
        """The references that point at a table, from all schemas."""
        return self._incoming.get(table.name, ())

    def outgoing(self, table: Table) -> tuple[Reference, ...]:
        """The references of a table's own rows, those of the partitioned table that it is part of
        included."""
        return self._outgoing.get(table.name, ())

    def with_references(self, more: Iterable[Undeclared]) -> Schema:
        """The schema with references that it does not declare. UsageError where a name in them is
        wrong."""
        added = tuple(self._undeclared(one) for one in more)
        return replace(self, references=self.references + added) if added else self

    def _undeclared(self, one: Undeclared) -> Reference:
        child, parent = self.find_table(one.child), self.find_table(one.parent)
        columns = tuple(child.find_column(name).name for name in one.columns)
        referred = tuple(parent.find_column(name).name for name in one.referred)
        reference = Reference(
            "",
            child,
            columns,
            parent,
            referred,
            one.on_delete,
            columns,
            enforced=False,
            declared=False,
            # A value that goes is as good as a row that goes.
            on_update=ReferentialAction.SET_NULL
            if one.on_delete is ReferentialAction.SET_NULL
            else ReferentialAction.NO_ACTION,
        )
        if len(columns) != len(referred) or len(set(referred)) != len(referred):
            raise UsageError(f"The reference {reference} in yeldro.toml does not pair its columns.")
        if not any(
            index.unique and set(index.columns) == set(referred) for index in parent.indexes
        ):
            raise UsageError(
                f"The reference {reference} in yeldro.toml points at columns that are not unique.",
                f"Add a unique index on {parent.label} ({', '.join(referred)}).",
            )
        return reference

    def referred_columns(self, table: Table) -> tuple[str, ...]:
        """Every column of a table that some reference points at, in column order."""
        wanted = {name for reference in self.incoming(table) for name in reference.referred}
        return tuple(name for name in table.column_names if name in wanted)

    def referring_columns(self, table: Table) -> tuple[str, ...]:
        """Every column of a table that belongs to some reference, in column order."""
        used = {name for reference in self.outgoing(table) for name in reference.columns}
        return tuple(name for name in table.column_names if name in used)

    def find_tables(self, text: str) -> list[Table]:
        """The tables that a person named: one by its name, those of a schema as `works.`, or those
        that fit a pattern such as `dept*`. UsageError where there is none."""
        if not is_pattern(text) or text in [table.label for table in self.tables]:
            return [self.find_table(text)]
        wanted = f"{text}*".lower() if text.endswith(".") else text.lower()
        # A schema is only looked at where the pattern has one.
        names_of = _names_of if "." in wanted else lambda table: [table.name.name]
        found = [
            table
            for table in self.tables
            if any(fnmatchcase(name.lower(), wanted) for name in names_of(table))
        ]
        if not found:
            raise UsageError(
                f"No table fits {text!r} in this database.",
                nearest(text.strip("*."), [table.label for table in self.tables], "tables"),
            )
        return found

    def find_table(self, text: str) -> Table:
        """The table that a person named: its label, or `schema.table`, in any case.

        UsageError where there is none (with the nearest names) or where the case decides between
        several.
        """
        alike = find_named(text, self.tables, _names_of)
        if len(alike) == 1:
            return alike[0]
        if alike:
            raise UsageError(
                f"{text!r} may be any of {', '.join(table.label for table in alike)}.",
                "Write it with its case.",
            )
        raise UsageError(
            f"There is no table {text!r} in this database.",
            nearest(text, [table.label for table in self.tables], "tables"),
        )


def is_pattern(text: str) -> bool:
    """Whether it may name several tables."""
    return text.endswith(".") or any(sign in text for sign in "*?")


def _names_of(table: Table) -> list[str]:
    return [table.label, f"{table.name.schema}.{table.name.name}"]


def overlaps(one: Table, other: Table) -> bool:
    """Whether rows of the one may be rows of the other: a partitioned table and its partitions."""
    return one is other or one.name in other.parts or other.name in one.parts


def _has_key(table: Table, columns: Sequence[str]) -> bool:
    return any(index.unique and set(index.columns) <= set(columns) for index in table.indexes)


def _grouped(
    references: Iterable[Reference], key: Callable[[Reference], TableName]
) -> dict[TableName, tuple[Reference, ...]]:
    groups: dict[TableName, list[Reference]] = {}
    for reference in references:
        groups.setdefault(key(reference), []).append(reference)
    return {name: tuple(group) for name, group in groups.items()}
