"""Which rows of one table a person asked for, read against the catalogue."""

from __future__ import annotations

import re
from dataclasses import dataclass

from yeldro.core.condition import Bound, Condition, read_condition
from yeldro.core.schema import Schema, Table
from yeldro.core.values import Value, read_key, read_parameter
from yeldro.errors import Refused, UsageError


@dataclass(frozen=True, slots=True)
class Order:
    column: str
    descending: bool


@dataclass(frozen=True, slots=True)
class Asked:
    """A selection as it was asked for: texts from the command line or from a file."""

    table: str
    where: tuple[str, ...] = ()
    parameters: tuple[str, ...] = ()
    keys: tuple[str, ...] = ()
    order_by: str | None = None
    limit: int | None = None
    all_rows: bool = False


@dataclass(frozen=True, slots=True)
class Selection:
    """Rows of `table` that meet all `conditions` and, where `keys` are given, have one of them.

    With `order` and `limit`, the first of those; NULLs come last in either direction and the identity is the last
    tie-breaker. `all_rows` says that the person knows that it may be the whole table.
    """

    table: Table
    conditions: tuple[Condition, ...] = ()
    keys: tuple[tuple[Value, ...], ...] = ()
    order: tuple[Order, ...] = ()
    limit: int | None = None
    all_rows: bool = False

    @property
    def columns(self) -> tuple[str, ...]:
        """The columns that the selection looks at, in the order in which it names them."""
        names = [name for condition in self.conditions for name in condition.columns]
        return tuple(dict.fromkeys([*names, *(order.column for order in self.order)]))


def read_selection(asked: Asked, schema: Schema, dialect: str) -> Selection:
    """Read what was asked for. UsageError for a table, column, key or condition that cannot be right."""
    table = schema.find_table(asked.table)
    if table.kind != "table":
        raise UsageError(
            f"{table.label} is a {table.kind}, not a table.",
            "Name the table whose rows should go, with the view's condition.",
        )
    if table.refusal:
        raise Refused(f"Rows of {table.label} cannot be deleted safely: {table.refusal}.")
    if not table.identity:
        raise UsageError(
            f"{table.label} has nothing that tells its rows apart.",
            "Rows can be fixed only by a key without NULLs.",
        )
    if not (asked.where or asked.keys or asked.limit is not None or asked.all_rows):
        raise UsageError(
            f"No rows of {table.label} were chosen.",
            "Choose them with --where, --key or --limit, or say --all-rows.",
        )
    if (asked.limit is None) != (asked.order_by is None):
        raise UsageError("--order-by and --limit go together.", 'For example: --order-by "opened_on" --limit 5.')
    if asked.limit is not None and asked.limit < 1:
        raise UsageError("--limit must be at least 1.")
    parameters = {parameter.name: parameter for parameter in map(read_parameter, asked.parameters)}
    conditions = tuple(read_condition(text, table, dialect, parameters) for text in asked.where)
    used = {piece.name for condition in conditions for piece in condition.pieces if isinstance(piece, Bound)}
    for name in parameters:
        if name not in used:
            raise UsageError(f"The parameter {name} is not used in any condition.", f"Write :{name} in --where.")
    return Selection(
        table,
        conditions,
        tuple(dict.fromkeys(read_key(text, table) for text in asked.keys)),
        _read_order(asked.order_by or "", table),
        asked.limit,
        asked.all_rows,
    )


_ORDER_ITEM = re.compile(
    r"""\s*(?:"(?P<quoted>(?:[^"]|"")+)"|(?P<plain>[^\s,"]+))(?:\s+(?P<way>asc|desc))?\s*(?:,|$)""",
    re.IGNORECASE,
)


def _read_order(text: str, table: Table) -> tuple[Order, ...]:
    orders, place = [], 0
    while place < len(text):
        item = _ORDER_ITEM.match(text, place)
        if item is None:
            raise UsageError(f"--order-by {text!r} cannot be read.", 'Write "COLUMN" or "COLUMN desc", with commas.')
        name = item["plain"] or item["quoted"].replace('""', '"')
        orders.append(Order(table.find_column(name).name, (item["way"] or "").lower() == "desc"))
        place = item.end()
    return tuple(orders)
