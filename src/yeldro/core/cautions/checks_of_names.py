"""Mistakes with names and words: which column is meant, what binds first, what is always true."""

from __future__ import annotations

import difflib
from collections.abc import Iterable, Iterator

from sqlglot import exp

from yeldro.core.cautions.examination import COMPARISONS, NUMERIC, Finding, Look, split_conditions
from yeldro.core.database.abilities import Quirk


def check_always_true(look: Look, tree: exp.Expr) -> Iterator[Finding]:
    for node in split_conditions(tree):
        if isinstance(node, exp.EQ) and look.scopes.column(node.left) and node.left == node.right:
            written = look.written(node)
            yield (
                "always-true",
                written,
                f"{written} is true for every row without a NULL there. Leave it out.",
            )
        elif not any(node.find_all(exp.Column, exp.Placeholder, exp.Query, exp.Func)) and _is_true(
            node
        ):
            written = look.written(node)
            yield (
                "always-true",
                written,
                f"{written} is true for every row of {look.table_label}. Leave it out.",
            )
        elif isinstance(node, exp.Exists) and not look.scopes.is_correlated(node.this):
            yield (
                "always-true",
                look.written(node),
                f"{look.written(node)} does not look at the row of {look.table_label}, so it is "
                "the same for all of them. Compare a column of the subquery with one of the table.",
            )


def check_outer_columns(look: Look, tree: exp.Expr) -> Iterator[Finding]:
    for node in tree.find_all(exp.Column):
        if node.table or node.find_ancestor(exp.Select) is None:
            continue
        found = look.scopes.find(node)
        if found is None or not found.levels or found.table is None:
            continue
        comparison = node.find_ancestor(*COMPARISONS, exp.Select)
        if isinstance(comparison, COMPARISONS) and _has_inner(look, comparison):
            continue
        query = node.find_ancestor(exp.Select)
        inside = ", ".join(name for name, _ in look.scopes.sources(query)) if query else ""
        yield (
            "outer-column",
            node.name,
            f"{inside} has no column {node.name}, so in the subquery it silently means that of "
            f"{found.table.label}, and the subquery compares the row with itself. Name a column of "
            "the subquery's own table.",
        )


def _has_inner(look: Look, comparison: exp.Expr) -> bool:
    places = [look.scopes.find(column) for column in comparison.find_all(exp.Column)]
    return any(place is not None and not place.levels for place in places)


def check_quoted_words(look: Look, tree: exp.Expr) -> Iterator[Finding]:
    """A quoted word that the engine reads as a text, because there is no such column or because it
    always does."""
    if Quirk.QUOTED_TEXTS not in look.quirks:
        return
    names = list(look.scopes.table.column_names)
    for node in tree.find_all(exp.Column):
        if node.this.args.get("quoted") and look.scopes.find(node) is None:
            yield _quoted(node.name, names)
    for pair in tree.find_all(*COMPARISONS, exp.In, exp.Like):
        if isinstance(pair.this, exp.Literal) and pair.this.is_string and not pair.find(exp.Column):
            yield _quoted(pair.this.this, names)


def _quoted(word: str, names: Iterable[str]) -> Finding:
    near = difflib.get_close_matches(
        word.lower(), [name.lower() for name in names], n=1, cutoff=0.6
    )
    hint = f" The nearest column is {near[0]}." if near else ""
    return (
        "quoted-word",
        word,
        f"The quoted word {word} is not a column here but a text, so the comparison is the same "
        f"for every row.{hint} Write a column's name without these quotes.",
    )


def check_mixed_and_or(look: Look, tree: exp.Expr) -> Iterator[Finding]:
    for node in tree.find_all(exp.Or):
        if isinstance(node.this, exp.And) or isinstance(node.expression, exp.And):
            read = node.copy()
            for side in ("this", "expression"):
                if isinstance(read.args[side], exp.And):
                    read.set(side, exp.paren(read.args[side].copy()))
            yield (
                "mixed-and-or",
                look.written(node),
                f"AND binds before OR, so this is read as {look.written(read)}. Write the brackets "
                "that you mean.",
            )
    if Quirk.PIPES_ARE_OR in look.quirks and "||" in look.condition.text:
        yield (
            "mixed-and-or",
            "||",
            "|| means OR here and does not join texts. Write OR, or CONCAT(…).",
        )


def _is_true(node: exp.Expr) -> bool:
    if isinstance(node, exp.Boolean):
        return bool(node.this)
    if isinstance(node, exp.Literal):
        return not node.is_string and bool(NUMERIC.fullmatch(node.this)) and float(node.this) != 0
    if isinstance(node, exp.EQ):
        return bool(node.left == node.right)
    return (
        isinstance(node, exp.NEQ)
        and node.left != node.right
        and type(node.left) is type(node.right)
    )
