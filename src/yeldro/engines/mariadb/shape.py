"""What tables are made of, of MariaDB: its own text of each table, and what points at it."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterator
from typing import Any

from yeldro.core.model.schema import TableName
from yeldro.core.model.shape import Shape
from yeldro.engines.mariadb.catalogue import list_references, quote_names
from yeldro.engines.shared.gate import Gate
from yeldro.engines.shared.shapes import gather
from yeldro.errors import BadStatement, NotAllowed

_TABLES = (
    "SELECT TABLE_SCHEMA, TABLE_NAME FROM information_schema.TABLES WHERE TABLE_TYPE IN "
    "('BASE TABLE', 'SYSTEM VERSIONED') AND TABLE_SCHEMA NOT IN ('mysql', 'sys', "
    "'information_schema', 'performance_schema')"
)
_REFERENCES = (
    "SELECT CONSTRAINT_SCHEMA, TABLE_NAME, CONSTRAINT_NAME, UNIQUE_CONSTRAINT_SCHEMA, "
    "REFERENCED_TABLE_NAME, CONCAT(DELETE_RULE, ' ', UPDATE_RULE) "
    "FROM information_schema.REFERENTIAL_CONSTRAINTS"
)
_TRIGGERS = (
    "SELECT EVENT_OBJECT_SCHEMA, EVENT_OBJECT_TABLE, TRIGGER_NAME, CONCAT_WS(' ', ACTION_TIMING, "
    "EVENT_MANIPULATION, ACTION_ORDER, SHA1(ACTION_STATEMENT)) FROM information_schema.TRIGGERS"
)
# A line of SHOW CREATE TABLE. What none of these fit belongs to the table as a whole.
_NAME = r"`((?:[^`]|``)*)`"
_LINES = (
    ("column", re.compile(rf"  {_NAME} (.*)")),
    ("unique", re.compile(r"  (PRIMARY) (KEY .*)")),
    ("unique", re.compile(rf"  UNIQUE KEY {_NAME} (.*)")),
    ("reference", re.compile(rf"  CONSTRAINT {_NAME} (FOREIGN KEY .*)")),
    ("check", re.compile(rf"  CONSTRAINT {_NAME} (CHECK .*)")),
)
# Indexes that are not unique decide nothing, and counters move by themselves.
_PLAIN_INDEX = re.compile(r"  (?:FULLTEXT |SPATIAL )?KEY ")
_COUNTER = re.compile(r" AUTO_INCREMENT=\d+")


def read_shape(gate: Gate, tables: Collection[TableName] | None) -> Shape:
    """The shape of some tables, or of all."""
    wanted = [TableName(*row) for row in gate.read(_TABLES)] if tables is None else tables
    return gather([*_find_own(gate, wanted), *_find_around(gate, tables)])


def _find_own(gate: Gate, tables: Collection[TableName]) -> Iterator[tuple[Any, ...]]:
    """What the server says of each table. One that is gone, or hidden, has nothing."""
    for table in tables:
        place = ".".join(f"`{part.replace('`', '``')}`" for part in (table.schema, table.name))
        try:
            text = str(gate.read(f"SHOW CREATE TABLE {place}")[0][1])
        except (BadStatement, NotAllowed):
            continue
        for kind, name, definition in _read_lines(text, table):
            yield table.schema, table.name, kind, name, definition


def _read_lines(text: str, table: TableName) -> Iterator[tuple[str, str, str]]:
    rest = []
    for line in text.split("\n"):
        line = line.removesuffix(",")
        found = next(((kind, m) for kind, form in _LINES if (m := form.fullmatch(line))), None)
        if found:
            kind, match = found
            name = match[1].replace("``", "`")
            yield kind, f"{name} of {table.name}" if kind == "reference" else name, match[2]
        elif not _PLAIN_INDEX.match(line):
            rest.append(_COUNTER.sub("", line))
    yield "table", "", "\n".join(rest)


def _find_around(gate: Gate, tables: Collection[TableName] | None) -> Iterator[tuple[Any, ...]]:
    """The triggers of tables, and the references that point at them, from any table."""
    for schema, table, name, text in gate.read(_find_trigger_query(tables)):
        yield schema, table, "trigger", name, text
    listed = list_references(gate, tables)
    if listed is not None:
        pointing: list[tuple[Any, ...]] = [
            (*_pair(one.child), one.name, *_pair(one.parent), " ".join(one.rules)) for one in listed
        ]
    else:
        pointing = gate.read(_REFERENCES + _find_where(tables))
    for child_schema, child, name, schema, table, text in pointing:
        # Its own text tells of it as well, where it points at itself.
        if (child_schema, child) != (schema, table):
            place = child if child_schema == schema else f"{child_schema}.{child}"
            yield schema, table, "reference", f"{name} of {place}", text


def _pair(name: TableName) -> tuple[str, str]:
    return name.schema, name.name


def _find_trigger_query(tables: Collection[TableName] | None) -> str:
    """Only with one name each the server looks into no other files."""
    if tables is None:
        return _TRIGGERS
    return " UNION ALL ".join(
        f"{_TRIGGERS} WHERE EVENT_OBJECT_SCHEMA = {quote_names([one.schema])} AND "
        f"EVENT_OBJECT_TABLE = {quote_names([one.name])}"
        for one in tables
    )


def _find_where(tables: Collection[TableName] | None) -> str:
    if tables is None:
        return ""
    schemas = quote_names(sorted({name.schema for name in tables}))
    names = quote_names(sorted({name.name for name in tables}))
    return f" WHERE UNIQUE_CONSTRAINT_SCHEMA IN ({schemas}) AND REFERENCED_TABLE_NAME IN ({names})"
