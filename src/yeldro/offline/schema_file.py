"""A schema as its CREATE and ALTER statements tell it, for engines that nobody connects to."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from typing import Any

import sqlglot
from msgspec import Struct, field
from msgspec.structs import replace
from sqlglot import exp
from sqlglot.errors import ParseError

from yeldro.core.model.lookup import fold
from yeldro.core.model.schema import (
    Column,
    Family,
    Index,
    Reference,
    ReferentialAction,
    Schema,
    Table,
    TableName,
)
from yeldro.errors import UsageError
from yeldro.offline.ddl_statements import cut_statements

_FAMILIES = (
    (exp.DataType.INTEGER_TYPES, Family.INTEGER),
    (exp.DataType.REAL_TYPES, Family.NUMBER),
    (exp.DataType.TEXT_TYPES, Family.TEXT),
    ({exp.DataType.Type.DATE}, Family.DATE),
    (exp.DataType.TEMPORAL_TYPES, Family.TIMESTAMP),
    ({exp.DataType.Type.BOOLEAN, exp.DataType.Type.BIT}, Family.BOOLEAN),
)
_RULE = "ON {} (CASCADE|SET NULL|SET DEFAULT|RESTRICT|NO ACTION)"
# What happens when a parent goes, and when what is pointed at changes.
_Rules = tuple[ReferentialAction, ReferentialAction]


class _Table(Struct):
    name: TableName
    columns: list[Column] = field(default_factory=list)
    key: tuple[str, ...] = ()
    indexes: list[Index] = field(default_factory=list)
    links: list[tuple[str, tuple[str, ...], TableName, tuple[str, ...], _Rules]] = field(
        default_factory=list
    )


def read_ddl(text: str, dialect: str) -> tuple[Schema, frozenset[str]]:
    """The schema, and the names that were written in quotes. UsageError with what cannot be read.

    Statements that make neither tables, keys nor references are passed over.
    """
    tables: dict[tuple[str, str], _Table] = {}
    quoted: set[str] = set()
    for statement in cut_statements(text, dialect):
        tree = _parse(statement.text, dialect)
        quoted |= {one.this for one in tree.find_all(exp.Identifier) if one.args.get("quoted")}
        if statement.verb == "UNIQUE":
            found = tree.find(exp.Table)
            table = tables.get(_name(found).folded)
            if table and not tree.find(exp.Where):
                table.indexes.append(
                    Index(tree.this.name, tuple(_columns(tree.find_all(exp.Ordered))), unique=True)
                )
            continue
        made = _Table(_name(tree.this.this))
        table = made if statement.verb == "CREATE" else tables.get(made.name.folded)
        if table is None:
            raise UsageError(f"The schema file adds to {made.name}, which it does not make.")
        tables.setdefault(made.name.folded, table)
        before = len(table.links)
        for part in tree.this.expressions:
            _read_part(table, part)
        if len(table.links) - before != statement.references:
            raise UsageError(
                f"The schema file has a reference that cannot be read, in {made.name}.",
                statement.text,
            )
    if not tables:
        raise UsageError(
            "The schema file makes no table.", "It must hold the CREATE TABLE statements."
        )
    return _link(tables), frozenset(quoted)


def _parse(statement: str, dialect: str) -> Any:
    try:
        tree = sqlglot.parse_one(statement, read=dialect)
    except ParseError as error:
        first = re.sub(r"\x1b\[\d*m", "", str(error).splitlines()[0])
        raise UsageError(
            f"The schema file cannot be read as {dialect}: {first}", statement[:300]
        ) from None
    if not isinstance(tree, exp.Create):
        raise UsageError(f"The schema file cannot be read as {dialect}.", statement[:300])
    return tree


def _name(table: Any) -> TableName:
    return TableName(table.db, table.name)


def _columns(nodes: Any) -> Iterator[str]:
    for node in nodes:
        yield node.name if not isinstance(node, exp.Ordered) else node.this.name


def _read_part(table: _Table, part: exp.Expr, name: str = "") -> None:
    if isinstance(part, exp.Constraint):
        for inner in part.expressions:
            _read_part(table, inner, part.this.name)
    elif isinstance(part, exp.ColumnDef):
        _read_column(table, part)
    elif isinstance(part, exp.PrimaryKey):
        table.key = tuple(_columns(part.expressions))
    elif isinstance(part, exp.UniqueColumnConstraint) and part.this:
        table.indexes.append(Index(name, tuple(_columns(part.this.expressions)), unique=True))
    elif isinstance(part, exp.ForeignKey):
        pointing = tuple(_columns(part.expressions))
        said = [
            f"ON {event} {part.args.get(event.lower()) or ''}" for event in ("DELETE", "UPDATE")
        ]
        _add_link(table, name, pointing, part.args["reference"], said)


def _read_column(table: _Table, part: exp.ColumnDef) -> None:
    kinds = [one.kind for one in part.constraints]
    nullable, default, generated = True, None, False
    for kind in kinds:
        if isinstance(kind, exp.NotNullColumnConstraint):
            nullable = bool(kind.args.get("allow_null"))
        elif isinstance(kind, exp.PrimaryKeyColumnConstraint):
            table.key, nullable = (part.name,), False
        elif isinstance(kind, exp.UniqueColumnConstraint):
            table.indexes.append(Index("", (part.name,), unique=True))
        elif isinstance(kind, exp.DefaultColumnConstraint):
            default = kind.this.sql()
        elif isinstance(kind, exp.ComputedColumnConstraint):
            generated = True
        elif isinstance(kind, exp.Reference):
            _add_link(table, "", (part.name,), kind, [])
    type_ = part.args.get("kind")
    known = getattr(type_, "this", None)
    family = next((family for types, family in _FAMILIES if known in types), Family.OTHER)
    if known == exp.DataType.Type.DECIMAL and len(getattr(type_, "expressions", ())) < 2:
        family = Family.INTEGER if getattr(type_, "expressions", ()) else Family.NUMBER
    table.columns.append(Column(part.name, str(type_ or ""), family, nullable, default, generated))


def _add_link(
    table: _Table, name: str, pointing: tuple[str, ...], reference: exp.Expr, said: list[str]
) -> None:
    target = reference.this
    parent = target.this if isinstance(target, exp.Schema) else target
    referred = tuple(_columns(target.expressions)) if isinstance(target, exp.Schema) else ()
    words = " ".join([*map(str, reference.args.get("options") or ()), *said])
    rules = _find_rule(words, "DELETE"), _find_rule(words, "UPDATE")
    table.links.append((name, pointing, _name(parent), referred, rules))


def _find_rule(words: str, event: str) -> ReferentialAction:
    found = re.search(_RULE.format(event), words, re.IGNORECASE)
    return ReferentialAction(found[1].upper()) if found else ReferentialAction.NO_ACTION


def _link(tables: dict[tuple[str, str], _Table]) -> Schema:
    """The tables, and the references between them. UsageError for one that leads out of the
    file."""
    names = Counter(name for _, name in tables)
    made = {plain: _make_table(one, shared=names[plain[1]] > 1) for plain, one in tables.items()}
    references = []
    for plain, one in tables.items():
        for name, pointing, target, referred, (deleting, updating) in one.links:
            parent = _find_parent(made, plain[0], target)
            if parent is None:
                raise UsageError(
                    f"{one.name.name} references {target.name}, which the schema file does not "
                    "make."
                )
            ends = _own(referred, tables[parent.name.folded]) or parent.key
            own = _own(pointing, one)
            references.append(
                Reference(name, made[plain], own, parent, ends, deleting, own, on_update=updating)
            )
    return Schema(tuple(made.values()), tuple(references))


def _make_table(one: _Table, *, shared: bool) -> Table:
    """`shared`: another schema has a table of the name too."""
    key = _own(one.key, one)
    columns = tuple(replace(c, nullable=c.nullable and c.name not in key) for c in one.columns)
    nullable = {column.name for column in columns if column.nullable}
    indexes = [replace(index, columns=_own(index.columns, one)) for index in one.indexes]
    solid = [index.columns for index in indexes if not set(index.columns) & nullable]
    label = f"{one.name.schema}.{one.name.name}" if shared else one.name.name
    identity = key or (solid[0] if solid else ())
    whole = [Index("", key, unique=True), *indexes] if key else indexes
    return Table(one.name, label, "table", columns, key, identity, tuple(whole))


def _find_parent(
    made: Mapping[tuple[str, str], Table], schema: str, target: TableName
) -> Table | None:
    """The table that a reference names: in full, in its own schema, or the only one of the name."""
    parent = made.get(target.folded) or made.get((schema, target.name.lower()))
    if parent is not None or (target.schema and schema):
        return parent
    alike = [table for place, table in made.items() if place[1] == target.name.lower()]
    return alike[0] if len(alike) == 1 else None


def _own(names: Sequence[str], table: _Table) -> tuple[str, ...]:
    """The names as the columns have them: case does not matter where they are not quoted."""
    known = fold(column.name for column in table.columns)
    return tuple(known.get(name.lower(), name) for name in names)
