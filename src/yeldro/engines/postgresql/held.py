"""Tables that are held in the client, in statements of PostgreSQL: one array for each column."""

from __future__ import annotations

from typing import Any

import sqlalchemy as sa
from sqlalchemy.ext.compiler import compiles

from yeldro.core.model.schema import Column
from yeldro.engines.shared.held import HeldTable, find_alias


def as_text(cell: Any, _: Column | str) -> Any:
    """A value as the text that PostgreSQL reads back as the same value."""
    return sa.cast(cell, sa.Text)


@compiles(HeldTable, "postgresql")
def _write_arrays(element: HeldTable, compiler: Any, asfrom: bool = False, **options: Any) -> str:
    if not asfrom:
        return element.name
    names = [column.name for column in element.columns]
    arrays, cells = [], []
    for place, name in enumerate(names):
        values = sa.bindparam(
            None, [row[place] for row in element.rows], type_=sa.ARRAY(sa.Text), unique=True
        )
        arrays.append(f"pg_catalog.unnest(CAST({compiler.process(values)} AS text[]))")
        made_of = element.made_of[name]
        cells.append(
            f"CAST(k.{name} AS {made_of if isinstance(made_of, str) else made_of.type}) AS {name}"
        )
    listed = f"ROWS FROM ({', '.join(arrays)}) AS k ({', '.join(names)})"
    return f"(SELECT {', '.join(cells)} FROM {listed}){find_alias(element, options)}"
