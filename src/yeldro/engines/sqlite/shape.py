"""What tables are made of, of SQLite."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from yeldro.core.model.shape import Shape
from yeldro.engines.shared.gate import Gate
from yeldro.engines.shared.shapes import gather

_TABLES = "SELECT name, sql FROM main.sqlite_master WHERE type = 'table'"
_COLUMNS = """
SELECT m.name, c.name, json_array(c.type, c."notnull", c.dflt_value, c.pk, c.hidden)
FROM main.sqlite_master AS m JOIN pragma_table_xinfo(m.name, 'main') AS c
WHERE m.type = 'table'"""
_REFERENCES = """
SELECT m.name, f."table", json_group_array(f."from"), json_array(f.on_delete, f.on_update,
  json_group_array(f."to"))
FROM main.sqlite_master AS m JOIN pragma_foreign_key_list(m.name, 'main') AS f
WHERE m.type = 'table' GROUP BY m.name, f.id ORDER BY m.name, f.id"""
_OTHERS = """
SELECT tbl_name, type, name, sql FROM main.sqlite_master
WHERE type = 'trigger' OR type = 'index' AND sql LIKE 'CREATE UNIQUE%'"""


def read_shape(gate: Gate) -> Shape:
    """The shape of all tables. Names are told apart as SQLite does, without their case."""
    return gather(_find_parts(gate))


def find_shape_version(gate: Gate) -> int:
    """What is another number after every change of the schema
    (https://www.sqlite.org/pragma.html#pragma_schema_version)."""
    return int(gate.run_text("PRAGMA main.schema_version").scalar_one())


def _find_parts(gate: Gate) -> Iterator[tuple[Any, ...]]:
    tables = gate.read(_TABLES)
    own = {name.lower(): name for name, _ in tables}
    for name, sql in tables:
        yield "main", name, "table", "", sql
    for table, name, text in gate.read(_COLUMNS):
        yield "main", table, "column", name, text
    for child, parent, columns, text in gate.read(_REFERENCES):
        name = f"{_list(columns)} of {child}"
        ends = {child, own.get(parent.lower(), parent)}
        for end in ends:
            yield "main", end, "reference", name, f"{parent} {text}"
    for table, kind, name, sql in gate.read(_OTHERS):
        kind = "trigger" if kind == "trigger" else "unique"
        yield "main", own.get(table.lower(), table), kind, name, sql


def _list(columns: str) -> str:
    """`["a","b"]` as a person writes it."""
    return columns.strip("[]").replace('"', "").replace(",", ", ")
