"""One SQL condition as the person wrote it: read to find its faults, columns and parameters, never rewritten."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass

import sqlglot
from sqlglot import exp
from sqlglot.errors import ParseError, TokenError

from yeldro.core.schema import Family, Table, nearest
from yeldro.core.values import Parameter, Value
from yeldro.errors import UsageError

_COMPARISONS = (exp.EQ, exp.NEQ, exp.LT, exp.LTE, exp.GT, exp.GTE, exp.Between, exp.In, exp.Is, exp.Like)


@dataclass(frozen=True, slots=True)
class Bound:
    """A parameter in its place in the text, with the value that it stands for."""

    name: str
    value: Value


@dataclass(frozen=True, slots=True)
class Condition:
    """`text` is what was written; `pieces` is the same, cut at the parameters; `columns` are those of the table."""

    text: str
    pieces: tuple[str | Bound, ...]
    columns: tuple[str, ...]


def read_condition(
    text: str, table: Table, dialect: str, parameters: Mapping[str, Parameter], option: str = "--where"
) -> Condition:
    """Read `text` as exactly one condition over `table` in the engine's dialect.

    UsageError with the place where it cannot be read, for a comment, for a column that the table does not have
    and for a parameter without a value.
    """
    tree = _parse(text, dialect, option)
    columns = tuple(dict.fromkeys(_find_columns(tree, text, table, option)))
    families = _families_of_parameters(tree, table)
    return Condition(text, tuple(_cut(text, dialect, parameters, families, option)), columns)


def _parse(text: str, dialect: str, option: str) -> exp.Expr:
    if not text.strip():
        raise UsageError(f"The condition of {option} is empty.", "Write an SQL condition, such as id = 12.")
    reader = sqlglot.Dialect.get_or_raise(dialect)
    try:
        tokens = reader.tokenize(text)
        trees = reader.parse_into(exp.Condition, text)
    except TokenError:
        raise UsageError(f"The condition of {option} cannot be read: a quote or bracket is not closed.", text) from None
    except ParseError as error:
        raise UsageError(
            f"The condition of {option} cannot be read as one SQL condition.",
            pointed(text, _place_of(error, text)),
        ) from None
    for token in tokens:
        if token.comments:
            raise UsageError(f"The condition of {option} holds a comment.", "Leave comments out of the condition.")
    if len(trees) != 1 or trees[0] is None:
        raise UsageError(f"The condition of {option} is not exactly one SQL condition.", text)
    return trees[0]


def _place_of(error: ParseError, text: str) -> int:
    """Where the parser stopped, as an offset in `text`. It counts lines and columns from 1, to a token's end."""
    fault = error.errors[0] if error.errors else {}
    lines = text.split("\n")
    line, column = int(fault.get("line") or 1), int(fault.get("col") or 1)
    start = sum(len(before) + 1 for before in lines[: line - 1])
    return start + max(0, column - len(str(fault.get("highlight") or " ")))


def pointed(text: str, place: int) -> str:
    """The text with a mark under the character at `place`, for an error message."""
    line_start = text.rfind("\n", 0, max(place, 0)) + 1
    line = text[line_start:].split("\n", 1)[0]
    return f"{line}\n{' ' * (max(place, 0) - line_start)}^"


def _find_columns(tree: exp.Expr, text: str, table: Table, option: str) -> Iterator[str]:
    known = {name.lower(): name for name in (*table.column_names, *table.identity)}
    for column in tree.find_all(exp.Column):
        if column.find_ancestor(exp.Query) is not None:
            continue
        place = column.this.meta.get("start", 0)
        if column.table and column.table.lower() not in (table.name.name.lower(), table.label.lower()):
            raise UsageError(
                f"The condition of {option} names a table {column.table!r} that is not {table.label}.",
                pointed(text, place),
            )
        if column.name.lower() not in known:
            raise UsageError(
                f"There is no column {column.name!r} in {table.label}.",
                f"{pointed(text, place)}\n{nearest(column.name, table.column_names, 'columns')}",
            )
        yield known[column.name.lower()]


def _families_of_parameters(tree: exp.Expr, table: Table) -> dict[str, Family]:
    """The family of the column that each parameter is compared with, where there is just one column."""
    families: dict[str, Family] = {}
    for placeholder in tree.find_all(exp.Placeholder):
        comparison = placeholder.parent
        while isinstance(comparison, exp.Paren | exp.Tuple | exp.Neg):
            comparison = comparison.parent
        if not isinstance(comparison, _COMPARISONS):
            continue
        names = {column.name.lower() for column in comparison.find_all(exp.Column)}
        found = [column for column in table.columns if column.name.lower() in names]
        if len(found) == 1 and len(names) == 1:
            families.setdefault(placeholder.name, found[0].family)
    return families


def _cut(
    text: str,
    dialect: str,
    parameters: Mapping[str, Parameter],
    families: Mapping[str, Family],
    option: str,
) -> Iterator[str | Bound]:
    tokens = sqlglot.tokenize(text, read=dialect)
    done = 0
    for colon, word in zip(tokens, tokens[1:], strict=False):
        is_name = word.text.isidentifier() and word.start == colon.end + 1 and text[word.start] == word.text[:1]
        if colon.token_type.name != "COLON" or not is_name:
            continue
        if word.text not in parameters:
            raise UsageError(
                f"The condition of {option} needs a value for :{word.text}.",
                f"Give it with -p {word.text}=VALUE.",
            )
        yield text[done : colon.start]
        yield Bound(word.text, parameters[word.text].value(families.get(word.text)))
        done = word.end + 1
    yield text[done:]
