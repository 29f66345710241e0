"""MariaDB's catalogue, read with one query a kind
(https://mariadb.com/kb/en/information-schema-tables/)."""

from __future__ import annotations

import json
from collections import Counter, defaultdict
from collections.abc import Collection, Iterable, Mapping, Sequence
from contextlib import suppress
from typing import Any

import sqlalchemy as sa
from msgspec import Struct
from msgspec.structs import replace

from yeldro.core.cautions.caution import CANNOT_ROLL_BACK
from yeldro.core.model.schema import (
    WHOLE_ROW,
    Column,
    Family,
    Index,
    Reference,
    ReferentialAction,
    Schema,
    Table,
    TableName,
    Trigger,
    Unique,
)
from yeldro.engines.mariadb.triggers import Bodies, Routine
from yeldro.engines.shared.gate import Gate
from yeldro.engines.shared.statements import Words
from yeldro.errors import DatabaseFailed

# Tables of the database itself, and of those whose tables reference it or are referenced by it.
_SCHEMAS = """
SELECT DISTINCT JSON_ARRAY(TABLE_SCHEMA) FROM information_schema.KEY_COLUMN_USAGE WHERE
REFERENCED_TABLE_SCHEMA IN ({0})
UNION SELECT DISTINCT JSON_ARRAY(REFERENCED_TABLE_SCHEMA) FROM information_schema.KEY_COLUMN_USAGE
WHERE TABLE_SCHEMA IN ({0}) AND REFERENCED_TABLE_SCHEMA IS NOT NULL"""
_TABLES = """
SELECT JSON_ARRAY(TABLE_SCHEMA, TABLE_NAME, TABLE_TYPE, ENGINE, INSTR(CREATE_OPTIONS,
'partitioned') > 0)
FROM information_schema.TABLES
WHERE TABLE_SCHEMA IN ({0}) AND TABLE_TYPE IN ('BASE TABLE', 'VIEW', 'SYSTEM VERSIONED')
ORDER BY TABLE_SCHEMA, TABLE_NAME"""
_VIEWS = """
SELECT JSON_ARRAY(TABLE_SCHEMA, TABLE_NAME, VIEW_DEFINITION) FROM information_schema.VIEWS
WHERE TABLE_SCHEMA IN ({0})"""
_COLUMNS = """
SELECT JSON_ARRAY(TABLE_SCHEMA, TABLE_NAME, COLUMN_NAME, COLUMN_TYPE, DATA_TYPE, IS_NULLABLE,
COLUMN_DEFAULT,
GENERATION_EXPRESSION IS NOT NULL AND GENERATION_EXPRESSION <> '', COALESCE(COLLATION_NAME, ''),
INSTR(EXTRA, 'on update') > 0)
FROM information_schema.COLUMNS WHERE TABLE_SCHEMA IN ({0}) ORDER BY TABLE_SCHEMA, TABLE_NAME,
ORDINAL_POSITION"""
_INDEXES = """
SELECT JSON_ARRAY(TABLE_SCHEMA, TABLE_NAME, INDEX_NAME, COLUMN_NAME, NON_UNIQUE, SUB_PART)
FROM information_schema.STATISTICS WHERE TABLE_SCHEMA IN ({0})
ORDER BY TABLE_SCHEMA, TABLE_NAME, INDEX_NAME <> 'PRIMARY', INDEX_NAME, SEQ_IN_INDEX"""
_REFERENCES = """
SELECT JSON_ARRAY(k.TABLE_SCHEMA, k.TABLE_NAME, k.CONSTRAINT_NAME, k.COLUMN_NAME,
k.REFERENCED_TABLE_SCHEMA,
k.REFERENCED_TABLE_NAME, k.REFERENCED_COLUMN_NAME)
FROM information_schema.KEY_COLUMN_USAGE AS k
WHERE k.TABLE_SCHEMA IN ({0}) AND k.REFERENCED_TABLE_NAME IS NOT NULL
ORDER BY k.TABLE_SCHEMA, k.TABLE_NAME, k.CONSTRAINT_NAME, k.ORDINAL_POSITION"""
_RULES = """
SELECT JSON_ARRAY(CONSTRAINT_SCHEMA, TABLE_NAME, CONSTRAINT_NAME, DELETE_RULE,
UPDATE_RULE)
FROM information_schema.REFERENTIAL_CONSTRAINTS WHERE CONSTRAINT_SCHEMA IN ({0})"""
# InnoDB's own list, of all databases, whatever the account may see of them; with PROCESS only.
# Names stand there as those of files do.
_INNODB_REFERENCES = """
SELECT JSON_ARRAY({for_db}, {for_table}, SUBSTRING(ID, INSTR(ID, '/') + 1), {ref_db}, {ref_table},
TYPE)
FROM information_schema.{table}"""
# InnoDB keeps names in the character set of its file names.
_PLAIN = "CONVERT(CAST(CAST({} AS BINARY) AS CHAR CHARACTER SET filename) USING utf8mb4)"
# The server's own count of opened tables, for references that an account cannot see.
_OPENED = """
SELECT SUM(VARIABLE_VALUE) FROM information_schema.SESSION_STATUS
WHERE VARIABLE_NAME IN ('TABLE_OPEN_CACHE_HITS', 'TABLE_OPEN_CACHE_MISSES',
'TABLE_OPEN_CACHE_OVERFLOWS')"""
_CHECKS = """
SELECT JSON_ARRAY(CONSTRAINT_SCHEMA, TABLE_NAME, CHECK_CLAUSE) FROM
information_schema.CHECK_CONSTRAINTS
WHERE CONSTRAINT_SCHEMA IN ({0})"""
_ROUTINES = """
SELECT JSON_ARRAY(ROUTINE_SCHEMA, ROUTINE_NAME, ROUTINE_DEFINITION) FROM information_schema.ROUTINES
WHERE ROUTINE_SCHEMA IN ({0})"""
_TRIGGERS = """
SELECT JSON_ARRAY(EVENT_OBJECT_SCHEMA, EVENT_OBJECT_TABLE, TRIGGER_NAME, ACTION_TIMING,
EVENT_MANIPULATION,
ACTION_STATEMENT) FROM information_schema.TRIGGERS WHERE EVENT_OBJECT_SCHEMA IN ({0})
ORDER BY EVENT_OBJECT_SCHEMA, EVENT_OBJECT_TABLE, TRIGGER_NAME"""

# Aria says that it is transactional, and is not: it only survives a crash.
TRANSACTIONAL = {"InnoDB"}
_FAMILIES = {
    **dict.fromkeys(("tinyint", "smallint", "mediumint", "int", "bigint", "year"), Family.INTEGER),
    **dict.fromkeys(("decimal", "float", "double"), Family.NUMBER),
    **dict.fromkeys(
        ("char", "varchar", "tinytext", "text", "mediumtext", "longtext", "enum", "set"),
        Family.TEXT,
    ),
    "date": Family.DATE,
    **dict.fromkeys(("datetime", "timestamp"), Family.TIMESTAMP),
}

_NEEDS_KEY = (
    "it has no primary key, and this cluster refuses changes to such a table "
    "(wsrep_certify_nonPK=OFF)"
)

Rows = defaultdict[TableName, list[tuple[Any, ...]]]
# Of a reference: what happens when its parent goes, and when what it points at changes.
Rules = tuple[ReferentialAction, ReferentialAction]


def read_schema(
    gate: Gate, database: str, *, by_keys: bool = False
) -> tuple[Schema, dict[TableName, dict[str, str | None]]]:
    """Read everything about the tables of a database and of those connected with it. `by_keys`:
    rows can only be changed where they have a key.

    Returns the schema, and per table the bodies of its triggers by name, None where they may not be
    read.
    """
    listed = list_references(gate)
    known = _find_connected(gate, database, listed or ())
    triggers = _by_table(_run(gate, _TRIGGERS, known))
    tables = _read_tables(gate, database, known, triggers, by_keys=by_keys)
    rules = {
        (row[0], row[1], row[2]): (ReferentialAction(row[3]), ReferentialAction(row[4]))
        for row in _run(gate, _RULES, known)
    }
    for one in listed or ():
        rules[one.child.schema, one.child.name, one.name] = one.rules
    seen = [rows for rows in _grouped(_run(gate, _REFERENCES, known)) if _is_seen(rows, tables)]
    ruled = [rows for rows in seen if rows[0][:3] in rules]
    references = tuple(_reference(tables, rows, rules[rows[0][:3]]) for rows in ruled)
    bodies = {place: {row[0]: row[3] for row in rows} for place, rows in triggers.items()}
    shown = Schema(tuple(tables.values()), references)
    unruled = [rows[0] for rows in seen if rows[0][:3] not in rules]
    return replace(shown, hidden=_find_hidden(gate, shown, bodies, listed, unruled)), bodies


def _find_connected(gate: Gate, database: str, listed: Sequence[_Listed]) -> list[str]:
    """A database and all whose tables reference it or are referenced by it, at any distance."""
    known = [database]
    while True:
        wanted = {*known, *(row[0] for row in _run(gate, _SCHEMAS, known))}
        for one in listed:
            if wanted & {*one.schemas}:
                wanted.update(one.schemas)
        if wanted == set(known):
            return known
        known = [database, *sorted(wanted - {database})]


def _read_tables(
    gate: Gate, database: str, known: list[str], triggers: Rows, *, by_keys: bool
) -> dict[TableName, Table]:
    columns = _by_table(_run(gate, _COLUMNS, known))
    indexes = _by_table(_run(gate, _INDEXES, known))
    checks = _by_table(_run(gate, _CHECKS, known))
    views = {TableName(row[0], row[1]): row[2] for row in _run(gate, _VIEWS, known)}
    tables = {}
    for schema, name, kind, engine, is_partitioned in _run(gate, _TABLES, known):
        place = TableName(schema, name)
        label = name if schema == database else f"{schema}.{name}"
        found = _make_table(place, label, kind, engine, columns[place], indexes[place])
        if by_keys and found.kind == "table" and not (found.key or found.refusal):
            found = replace(found, refusal=_NEEDS_KEY)
        happening = [Trigger(row[0], f"{row[1]} {row[2]}") for row in triggers[place]]
        # Its handler counts a row once for the table and once for the partition.
        tables[place] = replace(
            found,
            triggers=tuple(happening),
            definition=views.get(place) or "",
            weight=2 if is_partitioned else 1,
            checks=tuple(row[0] for row in checks[place]),
        )
    return tables


def read_routines(gate: Gate, schemas: Iterable[str]) -> dict[tuple[str, str], Routine]:
    """The procedures and functions of some schemas, by lower-case schema and name."""
    rows = _run(gate, _ROUTINES, list(schemas))
    return {(row[0].lower(), row[1].lower()): Routine(*row) for row in rows}


class _Listed(Struct, frozen=True):
    """A reference as InnoDB itself lists it."""

    child: TableName
    name: str
    parent: TableName
    rules: Rules

    @property
    def schemas(self) -> tuple[str, str]:
        return self.child.schema, self.parent.schema


def list_references(
    gate: Gate, parents: Collection[TableName] | None = None
) -> list[_Listed] | None:
    """Every reference of the server, or those that point at some tables; None where this account
    may not see the list."""
    parts = {
        f"{end}_{part}": _PLAIN.format(cut.format(f"{end.upper()}_NAME"))
        for end in ("for", "ref")
        for part, cut in (
            ("db", "SUBSTRING_INDEX({}, '/', 1)"),
            ("table", "SUBSTRING({0}, INSTR({0}, '/') + 1)"),
        )
    }
    for table in ("INNODB_SYS_FOREIGN", "INNODB_FOREIGN"):
        with suppress(DatabaseFailed):
            query = _INNODB_REFERENCES.format(table=table, **parts)
            if parents is not None:
                pairs = [
                    f"({quote_names([one.schema])}, {quote_names([one.name])})" for one in parents
                ]
                query += f" WHERE ({parts['ref_db']}, {parts['ref_table']}) IN ({', '.join(pairs)})"
            rows = [json.loads(row[0]) for row in gate.read(query)]
            return [
                _Listed(
                    TableName(row[0], row[1]),
                    row[2],
                    TableName(row[3], row[4]),
                    (_rule_of(row[5]), _rule_of(row[5] >> 2)),
                )
                for row in rows
            ]
    return None


def _rule_of(bits: int) -> ReferentialAction:
    """The bits of TYPE (DICT_FOREIGN_ON_DELETE_… in storage/innobase/include/dict0mem.h). Those for
    updates stand two places higher."""
    if bits & 1:
        return ReferentialAction.CASCADE
    return ReferentialAction.SET_NULL if bits & 2 else ReferentialAction.NO_ACTION


def _is_seen(rows: Sequence[tuple[Any, ...]], tables: Mapping[TableName, Table]) -> bool:
    """Whether both ends of a reference are known with all of its columns."""
    child, parent = tables.get(TableName(rows[0][0], rows[0][1])), tables.get(_end(rows[0]))
    ends = ((child, 3), (parent, 6))
    return all(
        table is not None and {row[at] for row in rows} <= set(table.column_names)
        for table, at in ends
    )


def _find_hidden(
    gate: Gate,
    schema: Schema,
    bodies: Mapping[TableName, Mapping[str, str | None]],
    listed: list[_Listed] | None,
    unruled: Sequence[tuple[Any, ...]],
) -> dict[TableName, str]:
    """The tables into which there may be references that this account cannot see, with what would
    show them.

    What InnoDB lists is all there is. Without that list a deletion that deletes nothing is
    explained: the server then opens every table into which it would cascade, at any depth, and
    those of triggers, and counts them.
    """
    hidden: dict[TableName, str] = {}
    for row in unruled:
        reason = (
            f"the rule of the reference {row[2]} of {row[0]}.{row[1]} is hidden from this account"
        )
        hidden.setdefault(_end(row), f"{reason}; GRANT PROCESS ON *.* would show it")
    known = {(reference.child.name, reference.name) for reference in schema.references}
    for one in listed or ():
        if (one.child, one.name) not in known and one.parent in schema.by_name:
            place = f"{one.child.schema}.{one.child.name}"
            quoted = ".".join(
                "`" + name.replace("`", "``") + "`" for name in (one.child.schema, one.child.name)
            )
            granting = f"GRANT SELECT, DELETE, UPDATE ON {quoted} would show it"
            hidden.setdefault(
                one.parent, f"{place} references it, and is hidden from this account; {granting}"
            )
    if listed is None or not _may_see_triggers(gate):
        lacking = "PROCESS" if listed is None else "TRIGGER"
        reason = (
            "the server opens more tables for a deletion than this account can see references and "
            "triggers for"
        )
        for table in _find_opening_more(gate, schema, bodies):
            hidden.setdefault(table.name, f"{reason}; GRANT {lacking} ON *.* would show them")
    return hidden


def _may_see_triggers(gate: Gate) -> bool:
    return bool(
        gate.read(
            "SELECT 1 FROM information_schema.USER_PRIVILEGES WHERE PRIVILEGE_TYPE = 'TRIGGER' "
            "LIMIT 1"
        )
    )


def _find_opening_more(
    gate: Gate, schema: Schema, bodies: Mapping[TableName, Mapping[str, str | None]]
) -> list[Table]:
    """The tables for a deletion from which the server opens others than those that are known."""
    tables = [table for table in schema.tables if table.kind == "table" and not table.refusal]
    triggers = any(bodies.values())
    reader = Bodies(
        read_routines(gate, {table.name.schema for table in schema.tables}) if triggers else {}
    )
    expected = {table: _count_opened(schema, table, bodies, reader) for table in tables}
    known = [opened for opened in expected.values() if opened is not None]
    if _count_opening(gate, tables) == sum(known) and len(known) == len(expected):
        return []
    return [
        table
        for table in tables
        if expected[table] is None or _count_opening(gate, [table]) != expected[table]
    ]


def _count_opened(
    schema: Schema,
    table: Table,
    bodies: Mapping[TableName, Mapping[str, str | None]],
    reader: Bodies,
) -> int | None:
    """How many tables a deletion opens as far as they are known: all into which it would cascade,
    once each, those that its triggers name, and so on for what these write to. None where a trigger
    cannot be read well enough."""
    cascaded, named = set[TableName](), Counter[TableName]()
    waiting, seen = [(table.name, "DELETE")], set[tuple[TableName, str]]()
    while waiting:
        name, event = waiting.pop()
        if (name, event) in seen or name not in schema.by_name:
            continue
        seen.add((name, event))
        if event == "DELETE":
            rules = (ReferentialAction.CASCADE, ReferentialAction.SET_NULL)
            children = {
                reference.child.name
                for reference in schema.incoming(schema.by_name[name])
                if reference.on_delete in rules
            }
            cascaded |= children
            waiting += [(child, event) for child in children]
        for trigger in schema.by_name[name].triggers:
            if trigger.event.endswith(event):
                body = bodies[name][trigger.name]
                found = reader.count_named(name.schema, body)
                if found is None:
                    return None
                named += found
                waiting += [
                    (one.table, one.verb.upper())
                    for one in reader.find_writes(name.schema, body)[0]
                ]
    return 1 + len(cascaded) + sum(often for one, often in named.items() if one in schema.by_name)


def _count_opening(gate: Gate, tables: Sequence[Table]) -> int | None:
    """How many tables the server opens for a deletion from each of these; None where it may not say
    so."""
    try:
        before = _read_opened(gate)
        own = _read_opened(gate) - before
        before = _read_opened(gate)
        for table in tables:
            gate.run(
                Words("EXPLAIN DELETE FROM", sa.table(table.name.name, schema=table.name.schema))
            )
        return _read_opened(gate) - before - own
    except DatabaseFailed:
        return None


def _read_opened(gate: Gate) -> int:
    return int(gate.read(_OPENED)[0][0] or 0)


def _run(gate: Gate, query: str, schemas: list[str]) -> list[tuple[Any, ...]]:
    """The queries make one text of each row, because the driver takes its time over every cell."""
    return [tuple(json.loads(row[0])) for row in gate.read(query.format(quote_names(schemas)))]


def quote_names(names: Iterable[str]) -> str:
    """Names as texts with commas between them."""
    return ", ".join("'" + name.replace("\\", "\\\\").replace("'", "''") + "'" for name in names)


def _by_table(rows: list[tuple[Any, ...]]) -> Rows:
    groups: Rows = defaultdict(list)
    for row in rows:
        groups[TableName(row[0], row[1])].append(row[2:])
    return groups


def _make_table(
    place: TableName,
    label: str,
    kind: str,
    engine: str | None,
    columns: list[tuple[Any, ...]],
    indexes: list[tuple[Any, ...]],
) -> Table:
    is_view = kind == "VIEW"
    found, specials = _read_indexes(indexes)
    filled = {column[0] for column in columns if column[3] == "NO"}
    keys = [index for index in found if index.unique and set(index.columns) <= filled]
    key = next((index.columns for index in keys if index.name == "PRIMARY"), ())
    identity = keys[0].columns if keys else (WHOLE_ROW,)
    return Table(
        place,
        label,
        "view" if is_view else "table",
        tuple(map(_column, columns)),
        key,
        key or (() if is_view and not keys else identity),
        tuple(found),
        refusal="" if is_view else _find_refusal(kind, engine),
        specials=tuple(specials),
    )


def _find_refusal(kind: str, engine: str | None) -> str:
    if engine not in TRANSACTIONAL:
        return f"its storage engine {engine} {CANNOT_ROLL_BACK}"
    if kind == "SYSTEM VERSIONED":
        return "it is system-versioned, so deleted rows stay in its history"
    return ""


def _read_indexes(rows: list[tuple[Any, ...]]) -> tuple[list[Index], list[Unique]]:
    """The indexes of a table, and those that are unique on the starts of texts."""
    parts: dict[str, list[tuple[Any, ...]]] = defaultdict(list)
    for row in rows:
        parts[row[0]].append(row)
    found, specials = [], []
    for name, columns in parts.items():
        is_unique = not any(not_unique for _, _, not_unique, _ in columns)
        is_whole = not any(prefix for *_, prefix in columns)
        names = tuple(column or "" for _, column, _, _ in columns)
        found.append(Index(name, names, is_unique and is_whole))
        if is_unique and not is_whole:
            specials.append(_by_starts(columns))
    return found, specials


def _by_starts(rows: list[tuple[Any, ...]]) -> Unique:
    """A unique index on the starts of texts."""
    names = ["`" + row[1].replace("`", "``") + "`" for row in rows]
    parts = [
        f"LEFT({name}, {int(row[3])})" if row[3] else name
        for name, row in zip(names, rows, strict=True)
    ]
    shown = tuple(f"the start of {row[1]}" if row[3] else row[1] for row in rows)
    return Unique(shown, frozenset(row[1] for row in rows), tuple(parts))


def _column(row: tuple[Any, ...]) -> Column:
    name, full, plain, nullable, default, generated, collation, on_update = row
    family = Family.BOOLEAN if full == "tinyint(1)" else _FAMILIES.get(plain, Family.OTHER)
    return Column(
        name, full, family, nullable == "YES", default, bool(generated), collation, bool(on_update)
    )


def _grouped(rows: list[tuple[Any, ...]]) -> list[list[tuple[Any, ...]]]:
    groups: dict[tuple[Any, ...], list[tuple[Any, ...]]] = defaultdict(list)
    for row in rows:
        groups[row[:3]].append(row)
    return list(groups.values())


def _end(row: tuple[Any, ...]) -> TableName:
    return TableName(row[4], row[5])


def _reference(
    tables: dict[TableName, Table], rows: list[tuple[Any, ...]], rules: Rules
) -> Reference:
    child, parent = tables[TableName(rows[0][0], rows[0][1])], tables[_end(rows[0])]
    columns, referred = tuple(row[3] for row in rows), tuple(row[6] for row in rows)
    unique = any(index.unique and set(index.columns) == set(referred) for index in parent.indexes)
    fault = "" if unique else f"The referred columns of {parent.label} are not unique"
    deleting, updating = rules
    return Reference(
        rows[0][2], child, columns, parent, referred, deleting, columns, fault, on_update=updating
    )
