"""Tables of ours that no account may make are held here, and sent along with every statement that
looks into them.

Such a table stands in statements where a temporary one would. It is bounded, because it is sent
again and again.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from typing import Any

import sqlalchemy as sa
from msgspec import Struct

from yeldro.core.model.schema import Column
from yeldro.errors import Refused

# Rows of one table.
MOST = 20_000
# What stands in for a column where a value of no column goes as the numbers of its bytes.
DIGEST = "digest"


class Holding(Struct, frozen=True):
    """`number` is the type of whole numbers, `places` are those of what names a row beside its
    columns, and `lift` is what would let the account make tables. `as_text` turns a value into the
    text that is held: of a column, or of a type."""

    number: str
    places: Mapping[str, str]
    lift: str
    as_text: Callable[[Any, Column | str], Any]


class HeldTable(sa.TableClause):
    """`made_of` is the column that each of ours takes its values from, or the type of those that
    are of no column."""

    inherit_cache = False

    def __init__(
        self,
        name: str,
        columns: Iterable[sa.ColumnClause[Any]],
        made_of: Mapping[str, Column | str],
        holding: Holding,
    ) -> None:
        super().__init__(name, *columns)
        self.made_of = dict(made_of)
        self.lift, self.as_text = holding.lift, holding.as_text
        self.rows: list[tuple[Any, ...]] = []

    def add(self, rows: Iterable[tuple[Any, ...]]) -> int:
        """Add rows in the order of the columns. Refused where they are too many to be held."""
        before = len(self.rows)
        for row in rows:
            if len(self.rows) == MOST:
                raise Refused(
                    f"More than {MOST:,} rows would have to be kept outside of the database.",
                    self.lift,
                )
            self.rows.append(row)
        return len(self.rows) - before


def write_for_holding(rows: sa.Select[Any], table: HeldTable) -> sa.Select[Any]:
    """A query whose values come as texts from which `HeldTable` makes the same values again."""
    named = [cell.label(f"v{place}") for place, cell in enumerate(rows.selected_columns)]
    found = rows.with_only_columns(*named, maintain_column_froms=True).subquery(f"{table.name}_new")
    cells = [
        table.as_text(cell, made_of)
        for cell, made_of in zip(found.c, table.made_of.values(), strict=True)
    ]
    return sa.select(*cells)


def find_alias(element: HeldTable, options: Mapping[str, Any]) -> str:
    """Its own name, unless an alias comes behind it."""
    alias = options.get("enclosing_alias")
    return "" if alias is not None and alias.element is element else f" AS {element.name}"
