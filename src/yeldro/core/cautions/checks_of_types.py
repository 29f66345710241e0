"""Mistakes with types: what is silently turned into something else before it is compared."""

from __future__ import annotations

import re
from collections.abc import Iterator

from sqlglot import exp

from yeldro.core.cautions.examination import COMPARISONS, NUMERIC, Finding, Look, split_conditions
from yeldro.core.database.abilities import Quirk
from yeldro.core.model.schema import Column, Family

_MOMENT = re.compile(r"\d{4}-\d{2}-\d{2}([ T]\d{2}:\d{2}(:\d{2}(\.\d+)?)?)?(Z|[+-]\d{2}:?\d{2})?")


_DAYS = "[0-9][0-9][0-9][0-9]-[0-1][0-9]-[0-3][0-9]*"


_APPROXIMATE = re.compile(r"\b(float|real)", re.IGNORECASE)


def check_conversions(look: Look, tree: exp.Expr) -> Iterator[Finding]:
    """Comparisons before which the engine silently turns one side into another type."""
    if not look.quirks & {Quirk.TEXTS_AS_NUMBERS, Quirk.UNTYPED}:
        return
    if Quirk.TEXTS_AS_NUMBERS in look.quirks:
        yield from _bare_texts(look, tree)
    for node in tree.find_all(*COMPARISONS):
        for one, other in ((node.left, node.right), (node.right, node.left)):
            column = look.scopes.column(one)
            value = other.this if isinstance(other, exp.Paren | exp.Neg) else other
            if column and (reason := _mismatch(look, column, value)):
                yield (
                    "text-as-number",
                    look.written(node),
                    f"{look.written(node)}: {reason}{_by_conversion(look, node, column)}",
                )
            elif not column and Quirk.UNTYPED in look.quirks and _is_untyped(one, value, look):
                yield (
                    "text-as-number",
                    look.written(node),
                    f"{look.written(node)} compares a number with a text without turning either "
                    "into the other, and a number is always less. Leave out the quotes.",
                )


def check_mixed_types(look: Look, tree: exp.Expr) -> Iterator[Finding]:
    """Values of a column that are no numbers, or no days, where it is compared with one."""
    if Quirk.UNTYPED not in look.quirks:
        return
    for node in tree.find_all(*COMPARISONS, exp.Between):
        column = look.scopes.column(node.this)
        if column is None or isinstance(node, exp.EQ | exp.NEQ) or node.find_ancestor(exp.Select):
            continue
        name = look.written(node.this)
        if column.family in (Family.INTEGER, Family.NUMBER):
            odd, what = f"typeof({name}) = 'text'", "a text, and any number is less than any text"
        elif column.family in (Family.DATE, Family.TIMESTAMP):
            odd = f"typeof({name}) = 'text' AND NOT {name} GLOB '{_DAYS}'"
            what = "no day in the form 2024-01-31, and texts are compared letter by letter"
        else:
            continue
        if rows := look.count(odd):
            matching = look.count(f"({look.written(node)}) AND {odd}") or 0
            yield (
                "mixed-types",
                f"{look.table_label}.{column.name}",
                f"{rows:,} rows of {look.table_label} hold {what}: {matching:,} of them meet "
                f"{look.written(node)}. Look at them, and leave them out with a condition on "
                f"{name} if they are not meant.",
            )


def _bare_texts(look: Look, tree: exp.Expr) -> Iterator[Finding]:
    for node in split_conditions(tree):
        column = look.scopes.column(node)
        if column and column.family is Family.TEXT:
            yield (
                "text-as-number",
                column.name,
                f"{column.name} is a text and is read as a number here: true where that is not 0. "
                "Compare it with something.",
            )


def _mismatch(look: Look, column: Column, value: exp.Expr) -> str:
    """Why a column and a value cannot be compared as they are, "" where they can."""
    if column.family in (Family.DATE, Family.TIMESTAMP):
        return _mismatch_of_day(look, value)
    if column.family is Family.TEXT and _is_number(value):
        return _mismatch_of_text(look, column, value)
    if column.family in (Family.INTEGER, Family.NUMBER) and _is_text(value):
        return _mismatch_of_number(look, column, value)
    return ""


def _is_text(value: exp.Expr) -> bool:
    return isinstance(value, exp.Literal) and value.is_string


def _is_number(value: exp.Expr) -> bool:
    return isinstance(value, exp.Literal) and not value.is_string


def _mismatch_of_day(look: Look, value: exp.Expr) -> str:
    if _is_arithmetic(value):
        return (
            f"without quotes {look.written(value)} is a sum of numbers and not a day. Put it in "
            "quotes."
        )
    if _is_number(value):
        return "a number is compared with a day. Put the day in quotes."
    if not _is_text(value) or _MOMENT.fullmatch(value.this):
        return ""
    how = "after a conversion that may fail"
    if Quirk.UNTYPED in look.quirks:
        how = "as a text, letter by letter"
    return (
        f"the text is not a day in the form 2024-01-31, so it is compared {how}. Write it in that "
        "form."
    )


def _mismatch_of_text(look: Look, column: Column, value: exp.Expr) -> str:
    if Quirk.TEXTS_AS_NUMBERS in look.quirks:
        return (
            f"every {column.name} is turned into a number first, and a text without one counts as "
            "0. Put quotes around the value."
        )
    is_ordered = not isinstance(value.parent, exp.EQ | exp.NEQ)
    if Quirk.UNTYPED in look.quirks and is_ordered:
        return (
            f"{column.name} holds texts, so the number is compared as one, letter by letter: '10' "
            "is less than '9'. Put quotes around the value, or compare CAST(… AS INTEGER)."
        )
    return ""


def _mismatch_of_number(look: Look, column: Column, value: exp.Expr) -> str:
    if NUMERIC.fullmatch(value.this):
        return ""
    if Quirk.UNTYPED not in look.quirks:
        return (
            f"the text is turned into a number first, here 0. Compare {column.name} with a number."
        )
    if look.count(f"typeof(\"{column.name}\") = 'text'"):
        return ""  # the column holds texts, so one may well be meant
    return (
        f"the value is not a number, and any number is less than any text. Compare {column.name} "
        "with a number."
    )


def _by_conversion(look: Look, node: exp.Expr, column: Column) -> str:
    """How many rows match only because of the conversion, as the end of a message."""
    if column.family is not Family.TEXT:
        return ""
    value = node.expression if look.scopes.column(node.this) else node.this
    plain = type(node)(
        this=exp.column(column.name, quoted=True), expression=exp.Literal.string(value.name)
    )
    rows = look.count(f"({look.written(node)}) AND NOT ({look.written(plain)})")
    return f" {rows:,} rows match by that alone." if rows else ""


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


def check_approximate(look: Look, tree: exp.Expr) -> Iterator[Finding]:
    if Quirk.UNTYPED in look.quirks:
        return
    for node in tree.find_all(exp.EQ):
        column = look.scopes.column(node.this)
        value = node.expression
        is_fraction = isinstance(value, exp.Literal) and not value.is_string and "." in value.this
        if column and is_fraction and _APPROXIMATE.search(column.type):
            yield (
                "approximate-number",
                look.written(node),
                f"{column.name} is a {column.type} and holds {value.this} only approximately, so = "
                "may miss it. Compare with a small range.",
            )
