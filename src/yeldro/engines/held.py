"""Tables of ours that no account may make are held here, and sent along with every statement that looks into them.

Such a table stands in statements where a temporary one would. It is bounded, because it is sent again and again.
"""

from __future__ import annotations

import json
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from typing import Any

import sqlalchemy as sa
from sqlalchemy.ext.compiler import compiles

from yeldro.core.schema import Column
from yeldro.engines.mariadb_values import find_way
from yeldro.errors import Refused

# Rows of one table.
MOST = 20_000
# What stands in for a column where a value of no column goes as the numbers of its bytes.
DIGEST = "digest"


@dataclass(frozen=True, slots=True)
class Holding:
    """`number` is the type of whole numbers, `places` are those of what names a row beside its columns, and `lift` is
    what would let the account make tables."""

    number: str
    places: Mapping[str, str]
    lift: str


_BINARY = ("hexadecimal", "bytes")


class HeldTable(sa.TableClause):
    """`made_of` is the column that each of ours takes its values from, or the type of those that are of no column."""

    inherit_cache = False

    def __init__(
        self, name: str, columns: Iterable[sa.ColumnClause[Any]], made_of: Mapping[str, Column | str], lift: str
    ) -> None:
        super().__init__(name, *columns)
        self.made_of = dict(made_of)
        self.lift = lift
        self.rows: list[tuple[Any, ...]] = []

    def add(self, rows: Iterable[tuple[Any, ...]]) -> int:
        """Add rows in the order of the columns. Refused where they are too many to be held."""
        before = len(self.rows)
        for row in rows:
            if len(self.rows) == MOST:
                raise Refused(f"More than {MOST:,} rows would have to be kept outside of the database.", self.lift)
            self.rows.append(row)
        return len(self.rows) - before


def write_for_holding(rows: sa.Select[Any], table: HeldTable, dialect: str) -> sa.Select[Any]:
    """A query whose values come as texts from which `HeldTable` makes the same values again."""
    named = [cell.label(f"v{place}") for place, cell in enumerate(rows.selected_columns)]
    found = rows.with_only_columns(*named, maintain_column_froms=True).subquery(f"{table.name}_new")
    cells = [_as_text(cell, made_of, dialect) for cell, made_of in zip(found.c, table.made_of.values(), strict=True)]
    return sa.select(*cells)


def _as_text(cell: Any, made_of: Column | str, dialect: str) -> Any:
    if dialect == "postgres":
        return sa.cast(cell, sa.Text)
    if _is_binary(made_of):
        return sa.func.hex(cell)
    if isinstance(made_of, Column) and find_way(made_of).name == "double":
        return sa.cast(sa.cast(cell, sa.Double), sa.CHAR)
    return sa.cast(cell, sa.CHAR) if isinstance(made_of, Column) else cell


@compiles(HeldTable, "postgresql")
def _write_arrays(element: HeldTable, compiler: Any, asfrom: bool = False, **options: Any) -> str:
    if not asfrom:
        return element.name
    names = [column.name for column in element.columns]
    arrays, cells = [], []
    for place, name in enumerate(names):
        values = sa.bindparam(None, [row[place] for row in element.rows], type_=sa.ARRAY(sa.Text), unique=True)
        arrays.append(f"pg_catalog.unnest(CAST({compiler.process(values)} AS text[]))")
        made_of = element.made_of[name]
        cells.append(f"CAST(k.{name} AS {made_of if isinstance(made_of, str) else made_of.type}) AS {name}")
    listed = f"ROWS FROM ({', '.join(arrays)}) AS k ({', '.join(names)})"
    return f"(SELECT {', '.join(cells)} FROM {listed}){_name(element, options)}"


@compiles(HeldTable, "mysql", "mariadb")
def _write_json(element: HeldTable, compiler: Any, asfrom: bool = False, **options: Any) -> str:
    if not asfrom:
        return element.name
    names = [column.name for column in element.columns]
    typed, cells = [], []
    for place, name in enumerate(names):
        made_of = element.made_of[name]
        is_binary = _is_binary(made_of)
        typed.append(f"{name} {_json_type(made_of)} PATH '$[{place}]'")
        cell = f"UNHEX(k.{name})" if is_binary else f"k.{name}"
        if isinstance(made_of, Column) and made_of.collation and not is_binary:
            cell = f"CONVERT({cell} USING {made_of.collation.partition('_')[0]}) COLLATE {made_of.collation}"
        cells.append(f"{cell} AS {name}")
    text = compiler.process(sa.bindparam(None, json.dumps(element.rows), type_=sa.Text, unique=True))
    listed = f"JSON_TABLE({text}, '$[*]' COLUMNS ({', '.join(typed)})) AS k"
    return f"(SELECT {', '.join(cells)} FROM {listed}){_name(element, options)}"


def _name(element: HeldTable, options: Mapping[str, Any]) -> str:
    """Its own name, unless an alias comes behind it."""
    alias = options.get("enclosing_alias")
    return "" if alias is not None and alias.element is element else f" AS {element.name}"


def _is_binary(made_of: Column | str) -> bool:
    return made_of == DIGEST if isinstance(made_of, str) else find_way(made_of).name in _BINARY


def _json_type(made_of: Column | str) -> str:
    if isinstance(made_of, str):
        return "LONGTEXT" if made_of == DIGEST else made_of
    return {"hexadecimal": "LONGTEXT", "bytes": "LONGTEXT", "double": "DOUBLE"}.get(
        find_way(made_of).name, "LONGTEXT" if made_of.collation else made_of.type
    )
