"""A view over one base table: which of its rows are which rows of the table."""

from __future__ import annotations

from msgspec import Struct

from yeldro.core.model.grammar import exp, sqlglot
from yeldro.core.model.lookup import fold
from yeldro.core.model.schema import Schema, Table
from yeldro.errors import UsageError

# With any of these a row of the view is no longer one row of a table.
_NOT_ROWS = {
    "laterals": "joins tables",
    "group": "groups rows",
    "having": "groups rows",
    "distinct": "merges equal rows",
    "limit": "takes only some rows",
    "offset": "takes only some rows",
    "windows": "computes over several rows",
}


class View(Struct, frozen=True, eq=False):
    """A view whose rows are rows of `base`. `key` are the columns of the view that hold the key of
    the base table."""

    table: Table
    base: Table
    key: tuple[str, ...]


def trace_view(view: Table, schema: Schema, dialect: str) -> View:
    """Find the base table of a view. UsageError with the reason where its rows are not rows of one
    table."""
    query = _read(view, dialect)
    if reason := _find_reason(query):
        raise _refuse(view, reason)
    source = query.args.get("from_") or query.args.get("from")
    table = source.this if source else None
    if not isinstance(table, exp.Table) or not isinstance(table.this, exp.Identifier):
        raise _refuse(view, "it does not read from one table by name")
    base = schema.find_table(f"{table.db}.{table.name}" if table.db else table.name)
    if base.kind != "table":
        raise _refuse(view, f"it reads from {base.label}, which is a {base.kind}")
    if not base.key:
        raise _refuse(view, f"its base table {base.label} has no primary key")
    exposed = _exposed(view, query, base)
    missing = [column for column in base.key if column not in exposed]
    if missing:
        raise _refuse(
            view, f"it does not show {', '.join(missing)}, the key of its base table {base.label}"
        )
    return View(view, base, tuple(exposed[column] for column in base.key))


def _find_reason(query: exp.Select) -> str:
    """Why rows of a query are not rows of a table, "" where they may be."""
    for part, what in _NOT_ROWS.items():
        if query.args.get(part):
            return f"it {what}"
    if query.find(exp.Join):
        return "it joins tables"
    if query.find(exp.AggFunc, exp.Window):
        return "it computes over several rows"
    return ""


def _read(view: Table, dialect: str) -> exp.Select:
    try:
        tree = sqlglot.parse_one(view.definition, read=dialect)
    except sqlglot.errors.SqlglotError:
        raise _refuse(view, "its definition cannot be read") from None
    query = tree.expression if isinstance(tree, exp.Create) else tree
    if not isinstance(query, exp.Select):
        raise _refuse(view, "it puts several queries together")
    return query


def _exposed(view: Table, query: exp.Select, base: Table) -> dict[str, str]:
    """The columns of the base table that the view shows unchanged, with their names in the view."""
    known = fold(base.column_names)
    if query.is_star:
        return {name: name for name in base.column_names if name in view.column_names}
    found: dict[str, str] = {}
    for place, shown in enumerate(query.selects):
        column = shown.this if isinstance(shown, exp.Alias) else shown
        if (
            isinstance(column, exp.Column)
            and column.name.lower() in known
            and place < len(view.columns)
        ):
            found.setdefault(known[column.name.lower()], view.column_names[place])
    return found


def _refuse(view: Table, reason: str) -> UsageError:
    return UsageError(
        f"The rows of the view {view.label} cannot be traced to one table: {reason}.",
        "Name the table whose rows should go, with the view's condition.",
    )
