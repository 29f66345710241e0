"""Mistakes with types: what is silently turned into something else before it is compared."""

from __future__ import annotations

import re
from collections.abc import Iterator

from yeldro.core.cautions.caution import Caution, caution
from yeldro.core.cautions.examination import NUMERIC, Look, comparisons, split_conditions
from yeldro.core.database.abilities import Quirk
from yeldro.core.model.fact import Fact, fact
from yeldro.core.model.grammar import exp
from yeldro.core.model.schema import Column, Family

# Days and moments whose order as texts is their order in time.
_MOMENT = re.compile(r"\d{4}-\d{2}-\d{2}([ T]\d{2}:\d{2}(:\d{2}(\.\d+)?)?)?(Z|[+-]\d{2}:?\d{2})?")


# The same for days, as a GLOB of SQLite. It is coarse on purpose: what passes is sorted rightly.
_DAYS = "[0-9][0-9][0-9][0-9]-[0-1][0-9]-[0-3][0-9]*"


# Types that hold binary fractions, under all their names.
_APPROXIMATE = re.compile(r"\b(float|real)", re.IGNORECASE)


def check_conversions(look: Look, tree: exp.Expr) -> Iterator[Caution]:
    """Comparisons before which the engine silently turns one side into another type."""
    if not look.quirks & {Quirk.TEXTS_AS_NUMBERS, Quirk.UNTYPED}:
        return
    if Quirk.TEXTS_AS_NUMBERS in look.quirks:
        yield from _bare_texts(look, tree)
    for node in tree.find_all(*comparisons()):
        for one, other in ((node.left, node.right), (node.right, node.left)):
            column = look.scopes.column(one)
            value = other.this if isinstance(other, exp.Paren | exp.Neg) else other
            if column and (reason := _mismatch(look, column, value)):
                alone = _count_by_conversion(look, node, column)
                yield caution(
                    "text-as-number",
                    look.written(node),
                    "alone" if alone else "",
                    written=look.written(node),
                    reason=reason,
                    rows=alone,
                )
            elif not column and Quirk.UNTYPED in look.quirks and _is_untyped(one, value, look):
                yield caution(
                    "text-as-number", look.written(node), "untyped", written=look.written(node)
                )


def check_mixed_types(look: Look, tree: exp.Expr) -> Iterator[Caution]:
    """Values of a column that are no numbers, or no days, where it is compared with one."""
    if Quirk.UNTYPED not in look.quirks:
        return
    for node in tree.find_all(*comparisons(), exp.Between):
        column = look.scopes.column(node.this)
        if column is None or isinstance(node, exp.EQ | exp.NEQ) or node.find_ancestor(exp.Select):
            continue
        name = look.written(node.this)
        if column.family in (Family.INTEGER, Family.NUMBER):
            odd, what = f"typeof({name}) = 'text'", "text"
        elif column.family in (Family.DATE, Family.TIMESTAMP):
            odd = f"typeof({name}) = 'text' AND NOT {name} GLOB '{_DAYS}'"
            what = "day"
        else:
            continue
        if rows := look.count(odd):
            matching = look.count(f"({look.written(node)}) AND {odd}") or 0
            yield caution(
                "mixed-types",
                f"{look.table_label}.{column.name}",
                what,
                rows=rows,
                table=look.table_label,
                matching=matching,
                written=look.written(node),
                column=name,
            )


def _bare_texts(look: Look, tree: exp.Expr) -> Iterator[Caution]:
    for node in split_conditions(tree):
        column = look.scopes.column(node)
        if column and column.family is Family.TEXT:
            yield caution("text-as-number", column.name, "bare", column=column.name)


def _mismatch(look: Look, column: Column, value: exp.Expr) -> Fact | None:
    """Why a column and a value cannot be compared as they are, None where they can."""
    if column.family in (Family.DATE, Family.TIMESTAMP):
        return _mismatch_of_day(look, value)
    if column.family is Family.TEXT and _is_number(value):
        return _mismatch_of_text(look, column, value)
    if column.family in (Family.INTEGER, Family.NUMBER) and _is_text(value):
        return _mismatch_of_number(look, column, value)
    return None


def _is_text(value: exp.Expr) -> bool:
    return isinstance(value, exp.Literal) and value.is_string


def _is_number(value: exp.Expr) -> bool:
    return isinstance(value, exp.Literal) and not value.is_string


def _mismatch_of_day(look: Look, value: exp.Expr) -> Fact | None:
    if _is_arithmetic(value):
        return fact("mismatch.sum", value=look.written(value))
    if _is_number(value):
        return fact("mismatch.number-and-day")
    if not _is_text(value) or _MOMENT.fullmatch(value.this):
        return None
    if Quirk.UNTYPED in look.quirks:
        return fact("mismatch.day-by-letters")
    return fact("mismatch.day-converted")


def _mismatch_of_text(look: Look, column: Column, value: exp.Expr) -> Fact | None:
    if Quirk.TEXTS_AS_NUMBERS in look.quirks:
        return fact("mismatch.text-becomes-number", column=column.name)
    is_ordered = not isinstance(value.parent, exp.EQ | exp.NEQ)
    if Quirk.UNTYPED in look.quirks and is_ordered:
        return fact("mismatch.by-letters", column=column.name)
    return None


def _mismatch_of_number(look: Look, column: Column, value: exp.Expr) -> Fact | None:
    if NUMERIC.fullmatch(value.this):
        return None
    if Quirk.UNTYPED not in look.quirks:
        return fact("mismatch.becomes-zero", column=column.name)
    if look.count(f"typeof(\"{column.name}\") = 'text'"):
        return None  # the column holds texts, so one may well be meant
    return fact("mismatch.not-a-number", column=column.name)


def _count_by_conversion(look: Look, node: exp.Expr, column: Column) -> int:
    """How many rows match only because of the conversion."""
    if column.family is not Family.TEXT:
        return 0
    value = node.expression if look.scopes.column(node.this) else node.this
    plain = type(node)(
        this=exp.column(column.name, quoted=True), expression=exp.Literal.string(value.name)
    )
    return look.count(f"({look.written(node)}) AND NOT ({look.written(plain)})") or 0


def _is_arithmetic(node: exp.Expr) -> bool:
    return (
        isinstance(node, exp.Sub)
        and not node.find(exp.Column, exp.Func)
        and bool(node.find(exp.Sub))
    )


def _is_untyped(one: exp.Expr, value: exp.Expr, look: Look) -> bool:
    """Whether an expression without a type of its own, but of numbers, meets a text."""
    if not (isinstance(value, exp.Literal) and value.is_string):
        return False
    if not isinstance(
        one, exp.Coalesce | exp.Abs | exp.Length | exp.Round | exp.Add | exp.Sub | exp.Mul | exp.Div
    ):
        return False
    columns = [look.scopes.column(column) for column in one.find_all(exp.Column)]
    numbers = isinstance(one, exp.Length) or all(
        column is not None and column.family in (Family.INTEGER, Family.NUMBER)
        for column in columns
    )
    return numbers


def check_approximate(look: Look, tree: exp.Expr) -> Iterator[Caution]:
    if Quirk.UNTYPED in look.quirks:
        return
    for node in tree.find_all(exp.EQ):
        column = look.scopes.column(node.this)
        value = node.expression
        is_fraction = isinstance(value, exp.Literal) and not value.is_string and "." in value.this
        if column and is_fraction and _APPROXIMATE.search(column.type):
            yield caution(
                "approximate-number",
                look.written(node),
                column=column.name,
                type=column.type,
                value=value.this,
            )
