"""Which table a column of a condition belongs to, by SQL's own rules for subqueries."""

from __future__ import annotations

from collections.abc import Iterator

from msgspec import Struct

from yeldro.core.model.grammar import exp
from yeldro.core.model.lookup import find_named
from yeldro.core.model.schema import Column, Schema, Table
from yeldro.errors import UsageError


class Found(Struct, frozen=True):
    """A column of a condition. `table` is None where its source is not a table of the schema;
    `levels` counts how many queries further out than the column itself its source stands."""

    node: exp.Column
    table: Table | None
    column: Column | None
    levels: int


class Scopes:
    """Resolves the columns of one condition over `table`."""

    def __init__(self, table: Table, schema: Schema) -> None:
        self.table = table
        self.schema = schema

    def find(self, node: exp.Column) -> Found | None:
        """Where a column comes from, None where no source has it."""
        levels = 0
        query = node.find_ancestor(exp.Select)
        while query is not None:
            sources = list(self.sources(query))
            for name, source in sources:
                if node.table and node.table.lower() != name.lower():
                    continue
                if source is None:
                    return Found(node, None, None, levels)
                if column := _column(source, node.name):
                    return Found(node, source, column, levels)
            query = query.parent.find_ancestor(exp.Select) if query.parent else None
            levels += 1
        if node.table and node.table.lower() not in (
            self.table.name.name.lower(),
            self.table.label.lower(),
        ):
            return None
        column = _column(self.table, node.name)
        return Found(node, self.table, column, levels) if column else None

    def column(self, node: exp.Expr | None) -> Column | None:
        """The column that an expression is, None where it is none or unknown."""
        while isinstance(node, exp.Paren):
            node = node.this
        found = self.find(node) if isinstance(node, exp.Column) else None
        return found.column if found else None

    def sources(self, query: exp.Select) -> Iterator[tuple[str, Table | None]]:
        """What a query reads from: a name for each source, and its table where it is one of the
        schema."""
        start = query.args.get("from_") or query.args.get("from")
        nodes = [start.this] if start else []
        nodes += [join.this for join in query.args.get("joins") or []]
        for node in nodes:
            if not isinstance(node, exp.Table) or not isinstance(node.this, exp.Identifier):
                yield node.alias_or_name, None
                continue
            name = f"{node.db}.{node.name}" if node.db else node.name
            try:
                yield node.alias_or_name, self.schema.find_table(name)
            except UsageError:
                yield node.alias_or_name, None

    def is_correlated(self, query: exp.Expr) -> bool:
        """Whether a subquery looks at a column from outside of itself, or at one that cannot be
        placed."""
        for node in query.find_all(exp.Column):
            found = self.find(node)
            if found is None or found.levels > _depth(node, query):
                return True
        return False


def _depth(node: exp.Expr, query: exp.Expr) -> int:
    """How many queries around a node lie inside of `query`, or are it, less one."""
    depth, inner = -1, node.find_ancestor(exp.Select)
    while inner is not None:
        depth += 1
        if inner is query:
            return depth
        inner = inner.parent.find_ancestor(exp.Select) if inner.parent else None
    return depth


def _column(table: Table, name: str) -> Column | None:
    return next(iter(find_named(name, table.columns, lambda column: [column.name])), None)
