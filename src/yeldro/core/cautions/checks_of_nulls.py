"""Mistakes with NULL: comparisons that are never true, and rows that are left out."""

from __future__ import annotations

from collections.abc import Iterator

from yeldro.core.cautions.caution import Caution, caution
from yeldro.core.cautions.examination import Look, comparisons
from yeldro.core.model.grammar import exp
from yeldro.core.selection.parts import ands


def check_never_true(look: Look, tree: exp.Expr) -> Iterator[Caution]:
    for node in tree.find_all(*comparisons()):
        sides = (node.left, node.right)
        if any(isinstance(side, exp.Null) for side in sides):
            other = look.written(
                next((side for side in sides if not isinstance(side, exp.Null)), node.left)
            )
            word = "IS NOT NULL" if isinstance(node, exp.NEQ) else "IS NULL"
            yield caution(
                "never-true", look.written(node), written=look.written(node), other=other, test=word
            )


def check_nulls_in_lists(look: Look, tree: exp.Expr) -> Iterator[Caution]:
    for node in tree.find_all(exp.In):
        if not isinstance(node.parent, exp.Not):
            continue
        what = look.written(node.this)
        if any(isinstance(value, exp.Null) for value in node.expressions):
            yield caution("null-in-list", look.written(node.parent), "literal")
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
            yield caution(
                "null-in-list",
                look.written(node.parent),
                "subquery",
                rows=nulls,
                shown=shown,
                what=what,
            )


def _count_nulls(look: Look, select: exp.Select) -> int | None:
    inner = select.copy()
    inner.selects[0].replace(exp.alias_(inner.selects[0].unalias().copy(), "yeldro_value"))
    text = (
        f"(SELECT count(*) FROM ({look.written(inner)}) AS yeldro_list WHERE yeldro_value IS NULL)"
    )
    return look.database.try_number(look.condition.derive(text))


def check_nulls_left_out(look: Look, tree: exp.Expr) -> Iterator[Caution]:
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
            yield caution(
                "null-left-out",
                f"{look.table_label}.{left.name}",
                rows=rows,
                table=look.table_label,
                column=left.name,
                part=look.written(part),
            )
