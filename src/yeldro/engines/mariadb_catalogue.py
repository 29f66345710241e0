"""MariaDB's catalogue, read with one query a kind (https://mariadb.com/kb/en/information-schema-tables/)."""

from __future__ import annotations

import json
from collections import defaultdict
from dataclasses import replace
from typing import Any

from yeldro.core.schema import Column, Family, Index, OnDelete, Reference, Schema, Table, TableName, Trigger
from yeldro.engines.gate import Gate

# Tables of the database itself, and of those whose tables reference it or are referenced by it.
_SCHEMAS = """
SELECT DISTINCT JSON_ARRAY(TABLE_SCHEMA) FROM information_schema.KEY_COLUMN_USAGE WHERE REFERENCED_TABLE_SCHEMA IN ({0})
UNION SELECT DISTINCT JSON_ARRAY(REFERENCED_TABLE_SCHEMA) FROM information_schema.KEY_COLUMN_USAGE
WHERE TABLE_SCHEMA IN ({0}) AND REFERENCED_TABLE_SCHEMA IS NOT NULL"""
_TABLES = """
SELECT JSON_ARRAY(TABLE_SCHEMA, TABLE_NAME, TABLE_TYPE, ENGINE) FROM information_schema.TABLES
WHERE TABLE_SCHEMA IN ({0}) AND TABLE_TYPE IN ('BASE TABLE', 'VIEW', 'SYSTEM VERSIONED')
ORDER BY TABLE_SCHEMA, TABLE_NAME"""
_VIEWS = """
SELECT JSON_ARRAY(TABLE_SCHEMA, TABLE_NAME, VIEW_DEFINITION) FROM information_schema.VIEWS
WHERE TABLE_SCHEMA IN ({0})"""
_COLUMNS = """
SELECT JSON_ARRAY(TABLE_SCHEMA, TABLE_NAME, COLUMN_NAME, COLUMN_TYPE, DATA_TYPE, IS_NULLABLE, COLUMN_DEFAULT,
GENERATION_EXPRESSION IS NOT NULL AND GENERATION_EXPRESSION <> '', COALESCE(COLLATION_NAME, ''),
INSTR(EXTRA, 'on update') > 0)
FROM information_schema.COLUMNS WHERE TABLE_SCHEMA IN ({0}) ORDER BY TABLE_SCHEMA, TABLE_NAME, ORDINAL_POSITION"""
_INDEXES = """
SELECT JSON_ARRAY(TABLE_SCHEMA, TABLE_NAME, INDEX_NAME, COLUMN_NAME, NON_UNIQUE, SUB_PART)
FROM information_schema.STATISTICS WHERE TABLE_SCHEMA IN ({0})
ORDER BY TABLE_SCHEMA, TABLE_NAME, INDEX_NAME <> 'PRIMARY', INDEX_NAME, SEQ_IN_INDEX"""
_REFERENCES = """
SELECT JSON_ARRAY(k.TABLE_SCHEMA, k.TABLE_NAME, k.CONSTRAINT_NAME, k.COLUMN_NAME, k.REFERENCED_TABLE_SCHEMA,
k.REFERENCED_TABLE_NAME, k.REFERENCED_COLUMN_NAME, r.DELETE_RULE)
FROM information_schema.KEY_COLUMN_USAGE AS k JOIN information_schema.REFERENTIAL_CONSTRAINTS AS r
ON r.CONSTRAINT_SCHEMA = k.CONSTRAINT_SCHEMA AND r.CONSTRAINT_NAME = k.CONSTRAINT_NAME AND r.TABLE_NAME = k.TABLE_NAME
WHERE k.TABLE_SCHEMA IN ({0}) AND r.CONSTRAINT_SCHEMA IN ({0}) AND k.REFERENCED_TABLE_NAME IS NOT NULL
ORDER BY k.TABLE_SCHEMA, k.TABLE_NAME, k.CONSTRAINT_NAME, k.ORDINAL_POSITION"""
_TRIGGERS = """
SELECT JSON_ARRAY(EVENT_OBJECT_SCHEMA, EVENT_OBJECT_TABLE, TRIGGER_NAME, ACTION_TIMING, EVENT_MANIPULATION,
ACTION_STATEMENT) FROM information_schema.TRIGGERS WHERE EVENT_OBJECT_SCHEMA IN ({0})
ORDER BY EVENT_OBJECT_SCHEMA, EVENT_OBJECT_TABLE, TRIGGER_NAME"""

_TRANSACTIONAL = {"InnoDB"}
_FAMILIES = {
    **dict.fromkeys(("tinyint", "smallint", "mediumint", "int", "bigint", "year"), Family.INTEGER),
    **dict.fromkeys(("decimal", "float", "double"), Family.NUMBER),
    **dict.fromkeys(("char", "varchar", "tinytext", "text", "mediumtext", "longtext", "enum", "set"), Family.TEXT),
    "date": Family.DATE,
    **dict.fromkeys(("datetime", "timestamp"), Family.TIMESTAMP),
}

Rows = defaultdict[TableName, list[tuple[Any, ...]]]


def read_schema(gate: Gate, database: str) -> tuple[Schema, dict[TableName, dict[str, str]]]:
    """Read everything about the tables of a database and of those connected with it.

    Returns the schema, and per table the bodies of its triggers by name.
    """
    known = [database]
    while True:
        wanted = {*known, *(row[0] for row in _run(gate, _SCHEMAS, known))}
        if wanted == set(known):
            break
        known = [database, *sorted(wanted - {database})]
    tables_found = _run(gate, _TABLES, known)
    columns, indexes, triggers = (_by_table(_run(gate, query, known)) for query in (_COLUMNS, _INDEXES, _TRIGGERS))
    views = {TableName(row[0], row[1]): row[2] for row in _run(gate, _VIEWS, known)}
    tables = {}
    for schema, name, kind, engine in tables_found:
        place = TableName(schema, name)
        label = name if schema == database else f"{schema}.{name}"
        found = _table(place, label, kind, engine, columns[place], indexes[place], triggers[place])
        tables[place] = replace(found, definition=views.get(place) or "")
    references = [
        _reference(tables, rows) for rows in _grouped(_run(gate, _REFERENCES, known)) if _end(rows[0]) in tables
    ]
    bodies = {place: {row[0]: row[3] for row in rows} for place, rows in triggers.items()}
    return Schema(tuple(tables.values()), tuple(references)), bodies


def _run(gate: Gate, query: str, schemas: list[str]) -> list[tuple[Any, ...]]:
    """The queries make one text of each row, because the driver takes its time over every cell."""
    listed = ", ".join("'" + name.replace("\\", "\\\\").replace("'", "''") + "'" for name in schemas)
    return [tuple(json.loads(row[0])) for row in gate.read(query.format(listed))]


def _by_table(rows: list[tuple[Any, ...]]) -> Rows:
    groups: Rows = defaultdict(list)
    for row in rows:
        groups[TableName(row[0], row[1])].append(row[2:])
    return groups


def _table(
    place: TableName,
    label: str,
    kind: str,
    engine: str | None,
    columns: list[tuple[Any, ...]],
    indexes: list[tuple[Any, ...]],
    triggers: list[tuple[Any, ...]],
) -> Table:
    parts: dict[str, list[str]] = defaultdict(list)
    unique: dict[str, bool] = {}
    for index, column, not_unique, prefix in indexes:
        parts[index].append(column or "")
        unique[index] = unique.get(index, True) and not not_unique and not prefix
    found = [Index(index, tuple(names), unique[index]) for index, names in parts.items()]
    filled = {column[0] for column in columns if column[3] == "NO"}
    keys = [index for index in found if index.unique and set(index.columns) <= filled]
    key = next((index.columns for index in keys if index.name == "PRIMARY"), ())
    is_view = kind == "VIEW"
    refusal = ""
    if not is_view and engine not in _TRANSACTIONAL:
        refusal = f"its storage engine {engine} cannot roll back"
    elif kind == "SYSTEM VERSIONED":
        refusal = "it is system-versioned, so deleted rows stay in its history"
    return Table(
        place,
        label,
        "view" if is_view else "table",
        tuple(map(_column, columns)),
        key,
        key or (keys[0].columns if keys else ()),
        tuple(found),
        tuple(Trigger(name, f"{time} {event}") for name, time, event, _ in triggers),
        refusal=refusal,
    )


def _column(row: tuple[Any, ...]) -> Column:
    name, full, plain, nullable, default, generated, collation, on_update = row
    family = Family.BOOLEAN if full == "tinyint(1)" else _FAMILIES.get(plain, Family.OTHER)
    return Column(name, full, family, nullable == "YES", default, bool(generated), collation, bool(on_update))


def _grouped(rows: list[tuple[Any, ...]]) -> list[list[tuple[Any, ...]]]:
    groups: dict[tuple[Any, ...], list[tuple[Any, ...]]] = defaultdict(list)
    for row in rows:
        groups[row[:3]].append(row)
    return list(groups.values())


def _end(row: tuple[Any, ...]) -> TableName:
    return TableName(row[4], row[5])


def _reference(tables: dict[TableName, Table], rows: list[tuple[Any, ...]]) -> Reference:
    child, parent = tables[TableName(rows[0][0], rows[0][1])], tables[_end(rows[0])]
    columns, referred = tuple(row[3] for row in rows), tuple(row[6] for row in rows)
    unique = any(index.unique and set(index.columns) == set(referred) for index in parent.indexes)
    fault = "" if unique else f"The referred columns of {parent.label} are not unique"
    rule = OnDelete(rows[0][7])
    return Reference(rows[0][2], child, columns, parent, referred, rule, columns, fault)
