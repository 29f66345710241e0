"""Mistakes with names and words: which column is meant, what binds first, what is always true."""

from __future__ import annotations

import difflib
from collections.abc import Iterable, Iterator

from yeldro.core.cautions.caution import Caution, caution
from yeldro.core.cautions.examination import NUMERIC, Look, comparisons, split_conditions
from yeldro.core.database.abilities import Quirk
from yeldro.core.model.grammar import exp


def check_always_true(look: Look, tree: exp.Expr) -> Iterator[Caution]:
    for node in split_conditions(tree):
        if isinstance(node, exp.EQ) and look.scopes.column(node.left) and node.left == node.right:
            written = look.written(node)
            yield caution("always-true", written, "same", written=written)
        elif not any(node.find_all(exp.Column, exp.Placeholder, exp.Query, exp.Func)) and _is_true(
            node
        ):
            written = look.written(node)
            yield caution(
                "always-true", written, "constant", written=written, table=look.table_label
            )
        elif isinstance(node, exp.Exists) and not look.scopes.is_correlated(node.this):
            yield caution(
                "always-true",
                look.written(node),
                "exists",
                written=look.written(node),
                table=look.table_label,
            )


def check_outer_columns(look: Look, tree: exp.Expr) -> Iterator[Caution]:
    for node in tree.find_all(exp.Column):
        if node.table or node.find_ancestor(exp.Select) is None:
            continue
        found = look.scopes.find(node)
        if found is None or not found.levels or found.table is None:
            continue
        comparison = node.find_ancestor(*comparisons(), exp.Select)
        if isinstance(comparison, comparisons()) and _has_inner(look, comparison):
            continue
        query = node.find_ancestor(exp.Select)
        inside = ", ".join(name for name, _ in look.scopes.sources(query)) if query else ""
        yield caution("outer-column", node.name, inside=inside, column=node.name, table=found.table)


def _has_inner(look: Look, comparison: exp.Expr) -> bool:
    places = [look.scopes.find(column) for column in comparison.find_all(exp.Column)]
    return any(place is not None and not place.levels for place in places)


def check_quoted_words(look: Look, tree: exp.Expr) -> Iterator[Caution]:
    """A quoted word that the engine reads as a text, because there is no such column or because it
    always does."""
    if Quirk.QUOTED_TEXTS not in look.quirks:
        return
    names = list(look.scopes.table.column_names)
    for node in tree.find_all(exp.Column):
        if node.this.args.get("quoted") and look.scopes.find(node) is None:
            yield _quoted(node.name, names)
    for pair in tree.find_all(*comparisons(), exp.In, exp.Like):
        if isinstance(pair.this, exp.Literal) and pair.this.is_string and not pair.find(exp.Column):
            yield _quoted(pair.this.this, names)


def _quoted(word: str, names: Iterable[str]) -> Caution:
    near = difflib.get_close_matches(
        word.lower(), [name.lower() for name in names], n=1, cutoff=0.6
    )
    return caution(
        "quoted-word", word, "near" if near else "", word=word, near=near[0] if near else ""
    )


def check_mixed_and_or(look: Look, tree: exp.Expr) -> Iterator[Caution]:
    for node in tree.find_all(exp.Or):
        if isinstance(node.this, exp.And) or isinstance(node.expression, exp.And):
            read = node.copy()
            for side in ("this", "expression"):
                if isinstance(read.args[side], exp.And):
                    read.set(side, exp.paren(read.args[side].copy()))
            yield caution("mixed-and-or", look.written(node), read=look.written(read))
    if Quirk.PIPES_ARE_OR in look.quirks and "||" in look.condition.text:
        yield caution("mixed-and-or", "||", "pipes")


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
