"""Mistakes with NULL: comparisons that are never true, and rows that are left out."""

from __future__ import annotations

from collections.abc import Iterator

from sqlglot import exp

from yeldro.core.cautions.examination import COMPARISONS, Finding, Look
from yeldro.core.selection.parts import ands


def check_never_true(look: Look, tree: exp.Expr) -> Iterator[Finding]:
    for node in tree.find_all(*COMPARISONS):
        sides = (node.left, node.right)
        if any(isinstance(side, exp.Null) for side in sides):
            other = look.written(
                next((side for side in sides if not isinstance(side, exp.Null)), node.left)
            )
            word = "IS NOT NULL" if isinstance(node, exp.NEQ) else "IS NULL"
            yield (
                "never-true",
                look.written(node),
                f"{look.written(node)} is true for no row at all, because NULL equals nothing. "
                f"Write {other} {word}.",
            )


def check_nulls_in_lists(look: Look, tree: exp.Expr) -> Iterator[Finding]:
    for node in tree.find_all(exp.In):
        if not isinstance(node.parent, exp.Not):
            continue
        what = look.written(node.this)
        if any(isinstance(value, exp.Null) for value in node.expressions):
            yield (
                "null-in-list",
                look.written(node.parent),
                "The list of NOT IN holds NULL, so no row at all matches. Take it out.",
            )
        query = node.args.get("query")
        select = query.this if isinstance(query, exp.Subquery) else query
        if (
            not isinstance(select, exp.Select)
            or len(select.selects) != 1
            or look.scopes.is_correlated(select)
        ):
            continue
        nulls = _count_nulls(look, select)
        if nulls:
            shown = look.written(select.selects[0])
            yield (
                "null-in-list",
                look.written(node.parent),
                f"{nulls:,} rows of the subquery hold NULL in {shown}, and with one NULL in its "
                f"list NOT IN matches no row at all. Add WHERE {shown} IS NOT NULL, or use NOT "
                f"EXISTS with {what}.",
            )


def _count_nulls(look: Look, select: exp.Select) -> int | None:
    inner = select.copy()
    inner.selects[0].replace(exp.alias_(inner.selects[0].unalias().copy(), "yeldro_value"))
    text = (
        f"(SELECT count(*) FROM ({look.written(inner)}) AS yeldro_list WHERE yeldro_value IS NULL)"
    )
    return look.database.try_number(look.condition.derive(text))


def check_nulls_left_out(look: Look, tree: exp.Expr) -> Iterator[Finding]:
    """`<>` and NOT leave rows with NULL out, which is easily forgotten. Only parts that every row
    must meet count."""
    for part in ands(tree):
        node = (
            part.this
            if isinstance(part, exp.Not) and isinstance(part.this, exp.In | exp.Like | exp.Between)
            else part
        )
        if not isinstance(part, exp.NEQ) and node is part:
            continue
        left = look.scopes.column(node.this)
        if (
            left is None
            or not left.nullable
            or any(isinstance(one, exp.Null) for one in node.iter_expressions())
        ):
            continue
        if rows := look.count(f"{look.written(node.this)} IS NULL"):
            yield (
                "null-left-out",
                f"{look.table_label}.{left.name}",
                f"{rows:,} rows of {look.table_label} hold NULL in {left.name}, and "
                f"{look.written(part)} is not true for them. If they are meant too, add OR "
                f"{left.name} IS NULL, in brackets.",
            )
