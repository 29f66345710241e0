"""One SQL condition as the person wrote it: read to find its faults, columns and parameters, never
rewritten."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence

from msgspec import Struct, field

from yeldro.core.model.grammar import exp, sqlglot
from yeldro.core.model.lookup import fold, nearest
from yeldro.core.model.schema import Table
from yeldro.core.model.values import Parameter, Value
from yeldro.core.selection.parameters import (
    Bound,
    bind_values,
    families_of_parameters,
    split_at_parameters,
)
from yeldro.errors import UsageError

# Brackets within brackets, and parts that are joined by a word such as OR.
_DEEPEST, _LONGEST = 60, 250


class Condition(Struct, frozen=True):
    """`text` is what was written; `pieces` is the same, cut at the parameters; `columns` are those
    of the table.

    `tree` is how the parser read it in `dialect`, None where it could not; `values` are those of
    the parameters.
    """

    text: str
    pieces: tuple[str | Bound, ...]
    columns: tuple[str, ...]
    tree: exp.Expr | None = None
    dialect: str = ""
    values: Mapping[str, Value] = field(default_factory=dict)

    def derive(self, text: str) -> Condition:
        """Another expression over the same table, with the same parameters."""
        return Condition(
            text,
            tuple(split_at_parameters(text, self.dialect, self.values)),
            (),
            None,
            self.dialect,
            self.values,
        )


def read_condition(
    text: str,
    table: Table,
    dialect: str,
    parameters: Mapping[str, Parameter],
    option: str = "--where",
    *,
    unparsed: bool = False,
) -> Condition:
    """Read `text` as exactly one condition over `table` in the engine's dialect.

    UsageError with the place where it cannot be read, for a comment, for a column that the table
    does not have, and for a parameter without a value. With `unparsed` a condition that the parser
    cannot read is taken as it is.
    """
    try:
        # The tree is for looking at only. What is sent are the pieces of the text itself.
        tree = _parse(text, dialect, option)
    except UsageError:
        if not (unparsed and text.strip() and _is_closed(text)):
            raise
        return Condition(text, (text,), (), None, dialect)
    columns = tuple(dict.fromkeys(_find_columns(tree, text, table, option)))
    families = families_of_parameters(tree, table)
    pieces = tuple(bind_values(text, dialect, parameters, families, option))
    values = {piece.name: piece.value for piece in pieces if isinstance(piece, Bound)}
    return Condition(text, pieces, columns, tree, dialect, values)


def _parse(text: str, dialect: str, option: str) -> exp.Expr:
    if not text.strip():
        raise UsageError(
            f"The condition of {option} is empty.", "Write an SQL condition, such as id = 12."
        )
    reader = sqlglot.Dialect.get_or_raise(dialect)
    try:
        tokens = reader.tokenize(text)
        # Before parsing, which is recursive: too deep a text would end the process and not raise.
        _check_size(tokens, option)
        trees = reader.parse_into(exp.Condition, text)
    except sqlglot.errors.TokenError:
        raise UsageError(
            f"The condition of {option} cannot be read: a quote or bracket is not closed.", text
        ) from None
    except RecursionError:
        raise _too_deep(option) from None
    except sqlglot.errors.ParseError as error:
        raise UsageError(
            f"The condition of {option} cannot be read as one SQL condition.",
            pointed(text, _place_of(error, text)),
        ) from None
    for token in tokens:
        # The server may run what the parser skips: MariaDB runs /*! … */.
        if token.comments:
            raise UsageError(
                f"The condition of {option} holds a comment.",
                "Leave comments out of the condition.",
            )
    if len(trees) != 1 or trees[0] is None:
        raise UsageError(f"The condition of {option} is not exactly one SQL condition.", text)
    return trees[0]


def _check_size(tokens: Sequence[sqlglot.Token], option: str) -> None:
    """SQLite reads expressions up to a depth of 1,000, and so, about, do we."""
    depth = deepest = joined = 0
    for token in tokens:
        word = token.token_type.name
        depth += (word in ("L_PAREN", "L_BRACKET")) - (word in ("R_PAREN", "R_BRACKET"))
        deepest = max(deepest, depth)
        joined += word in ("AND", "OR", "NOT", "DAMP", "DPIPE", "DASH", "PLUS", "CASE")
    if deepest > _DEEPEST or joined > _LONGEST:
        raise _too_deep(option)


def _too_deep(option: str) -> UsageError:
    return UsageError(
        f"The condition of {option} has too many parts, or too many brackets within brackets.",
        "Put keys into a file, for --keys-from, or into a table, for --found-in.",
    )


def _is_closed(text: str) -> bool:
    """Whether a text that the parser cannot read closes its brackets and quotes, and holds no
    comment and no second statement. An engine may read quotes otherwise: that is why rows are fixed
    by key and previews read-only."""
    depth, quote = 0, ""
    for place, sign in enumerate(text):
        if quote:
            quote = "" if sign == quote else quote
        elif sign in "'\"`":
            quote = sign
        elif sign == ";" or text[place : place + 2] in ("--", "/*") or sign in "#\\":
            return False
        else:
            depth += (sign == "(") - (sign == ")")
            if depth < 0:
                return False
    return not quote and not depth


def _place_of(error: sqlglot.errors.ParseError, text: str) -> int:
    """Where the parser stopped, as an offset in `text`. It counts lines and columns from 1, to a
    token's end."""
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
    known = fold((*table.column_names, *table.identity))
    for column in tree.find_all(exp.Column):
        # Inside a subquery it may belong to any of its tables: a caution looks at that.
        if column.find_ancestor(exp.Query) is not None:
            continue
        place = column.this.meta.get("start", 0)
        if column.table and column.table.lower() not in (
            table.name.name.lower(),
            table.label.lower(),
        ):
            raise UsageError(
                f"The condition of {option} names a table {column.table!r} that is not "
                f"{table.label}.",
                pointed(text, place),
            )
        if column.name.lower() not in known:
            raise UsageError(
                f"There is no column {column.name!r} in {table.label}.",
                f"{pointed(text, place)}\n{nearest(column.name, table.column_names, 'columns')}",
            )
        yield known[column.name.lower()]
