"""Tables that are held in the client, in statements of MariaDB: as JSON."""

from __future__ import annotations

import json
from typing import Any

import sqlalchemy as sa
from sqlalchemy.ext.compiler import compiles

from yeldro.core.model.schema import Column
from yeldro.engines.mariadb.values import find_way
from yeldro.engines.shared.held import DIGEST, HeldTable, find_alias

# Ways in which the client holds bytes: they compare as bytes and not as texts.
_BINARY = ("hexadecimal", "bytes")


def as_text(cell: Any, made_of: Column | str) -> Any:
    """A value as the text that stands for it in JSON."""
    if _is_binary(made_of):
        return sa.func.hex(cell)
    if not isinstance(made_of, Column):
        return cell
    if find_way(made_of).name == "double":
        cell = sa.cast(cell, sa.Double)
    return sa.cast(cell, sa.CHAR)


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
            cell = (
                f"CONVERT({cell} USING {made_of.collation.partition('_')[0]}) COLLATE "
                f"{made_of.collation}"
            )
        cells.append(f"{cell} AS {name}")
    text = compiler.process(
        sa.bindparam(None, json.dumps(element.rows), type_=sa.Text, unique=True)
    )
    listed = f"JSON_TABLE({text}, '$[*]' COLUMNS ({', '.join(typed)})) AS k"
    return f"(SELECT {', '.join(cells)} FROM {listed}){find_alias(element, options)}"


def _is_binary(made_of: Column | str) -> bool:
    return made_of == DIGEST if isinstance(made_of, str) else find_way(made_of).name in _BINARY


def _json_type(made_of: Column | str) -> str:
    if isinstance(made_of, str):
        return "LONGTEXT" if made_of == DIGEST else made_of
    return {"hexadecimal": "LONGTEXT", "bytes": "LONGTEXT", "double": "DOUBLE"}.get(
        find_way(made_of).name, "LONGTEXT" if made_of.collation else made_of.type
    )
