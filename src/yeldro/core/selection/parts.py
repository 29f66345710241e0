"""The AND-ed parts of a condition."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING

from yeldro.core.model.grammar import exp, sqlglot
from yeldro.core.selection.condition import Condition

if TYPE_CHECKING:
    from yeldro.core.selection.selection import Selection


def cut_at_and(condition: Condition) -> list[Condition]:
    """The AND-ed parts of a condition, each a piece of what was written; the condition itself where
    there is one only, or where the parser reads the pieces otherwise than the whole."""
    if condition.tree is None:
        return []
    slices = _slice_at_and(condition.text, condition.dialect)
    trees = list(ands(condition.tree))
    reader = sqlglot.Dialect.get_or_raise(condition.dialect)
    try:
        read = [reader.parse_into(exp.Condition, text)[0] for text in slices]
    except (sqlglot.errors.ParseError, sqlglot.errors.TokenError):
        return [condition]
    return [condition.derive(text) for text in slices] if read == trees else [condition]


def _slice_at_and(text: str, dialect: str) -> list[str]:
    """Cut a text at the words AND that stand outside of all brackets, and what stands whole in
    brackets again."""
    tokens = sqlglot.tokenize(text, read=dialect)
    depth, between, cases, cuts = 0, 0, 0, [0]
    for token in tokens:
        word = token.token_type.name
        depth += (word in ("L_PAREN", "L_BRACKET")) - (word in ("R_PAREN", "R_BRACKET"))
        cases += (word == "CASE") - (word == "END")
        if depth or cases:
            continue
        if word == "BETWEEN":
            between += 1
        elif word == "OR":
            return [text]
        elif word in ("AND", "DAMP") and between:
            between -= 1
        elif word in ("AND", "DAMP"):
            cuts += [token.start, token.end + 1]
    parts = [
        text[start:end].strip()
        for start, end in zip(cuts[::2], [*cuts[1::2], len(text)], strict=True)
    ]
    inner = tokens[1:-1]
    if len(parts) == 1 and _is_in_brackets(tokens):
        return _slice_at_and(text[inner[0].start : inner[-1].end + 1], dialect)
    return (
        parts
        if len(parts) == 1
        else [piece for part in parts for piece in _slice_at_and(part, dialect)]
    )


def _is_in_brackets(tokens: Sequence[sqlglot.Token]) -> bool:
    """Whether the first bracket is closed by the last one."""
    depth = 0
    for place, token in enumerate(tokens):
        depth += (token.token_type.name == "L_PAREN") - (token.token_type.name == "R_PAREN")
        if not depth:
            return place == len(tokens) - 1 > 1
    return False


def write_part(node: exp.Expr, dialect: str) -> str:
    """A part of a condition as SQL, with parameters as a person writes them: the parser would spell
    each in its dialect's own way."""
    plain = node.transform(
        lambda one: exp.Var(this=f":{one.name}") if isinstance(one, exp.Placeholder) else one
    )
    return plain.sql(dialect=dialect)


def ands(tree: exp.Expr) -> Iterator[exp.Expr]:
    """The conditions that all must be true."""
    if isinstance(tree, exp.And):
        yield from ands(tree.left)
        yield from ands(tree.right)
    elif isinstance(tree, exp.Paren):
        yield from ands(tree.this)
    else:
        yield tree


def pins_a_row(selection: Selection) -> bool:
    """Whether the conditions fix every column of some unique index, or the key."""
    fixed: set[str] = set()
    for condition in selection.conditions:
        for node in ands(condition.tree) if condition.tree else ():
            if (
                isinstance(node, exp.EQ)
                and isinstance(node.this, exp.Column)
                and not node.expression.find(exp.Column)
            ):
                fixed.add(node.this.name.lower())
    sets = [
        selection.table.key,
        *(index.columns for index in selection.table.indexes if index.unique),
    ]
    return bool(selection.listed) or any(
        columns and {name.lower() for name in columns} <= fixed for columns in sets
    )
