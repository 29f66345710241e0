"""The parameters of a condition: where they stand in its text, and their values."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping

from msgspec import Struct

from yeldro.core.model.grammar import exp, sqlglot
from yeldro.core.model.schema import Family, Table
from yeldro.core.model.values import Parameter, Value
from yeldro.errors import UsageError

# A parameter, and what may hold a colon that begins none, as engines read it that do, or do not,
# know a backslash.
_NAMED = [
    re.compile(rf"""'(?:[^'{more}]|''{also})*'|"(?:[^"]|"")*"|`[^`]*`|::|:([^\W\d]\w*)""")
    for more, also in (("", ""), (r"\\", r"|\\."))
]


def _comparisons() -> tuple[type[exp.Expr], ...]:
    return (
        exp.EQ,
        exp.NEQ,
        exp.LT,
        exp.LTE,
        exp.GT,
        exp.GTE,
        exp.Between,
        exp.In,
        exp.Is,
        exp.Like,
    )


class Bound(Struct, frozen=True):
    """A parameter in its place in the text, with the value that it stands for."""

    name: str
    value: Value


def find_names(text: str) -> list[str]:
    """The parameters that a condition surely speaks of, whatever the engine."""
    plain, escaped = (
        [found[1] for found in pattern.finditer(text) if found[1]] for pattern in _NAMED
    )
    return [name for name in plain if name in escaped]


def families_of_parameters(tree: exp.Expr, table: Table) -> dict[str, Family]:
    """The family of the column that each parameter is compared with, where there is just one
    column."""
    families: dict[str, Family] = {}
    for placeholder in tree.find_all(exp.Placeholder):
        comparison = placeholder.parent
        while isinstance(comparison, exp.Paren | exp.Tuple | exp.Neg):
            comparison = comparison.parent
        if not isinstance(comparison, _comparisons()):
            continue
        names = {column.name.lower() for column in comparison.find_all(exp.Column)}
        found = [column for column in table.columns if column.name.lower() in names]
        if len(found) == 1 and len(names) == 1:
            families.setdefault(placeholder.name, found[0].family)
    return families


def bind_values(
    text: str,
    dialect: str,
    parameters: Mapping[str, Parameter],
    families: Mapping[str, Family],
    option: str,
) -> Iterator[str | Bound]:
    values = {}
    for _, name in _places(text, dialect):
        if name not in parameters:
            raise UsageError(
                f"The condition of {option} needs a value for :{name}.",
                f"Give it with -p {name}=VALUE.",
            )
        values[name] = parameters[name].value(families.get(name))
    yield from split_at_parameters(text, dialect, values)


def split_at_parameters(
    text: str, dialect: str, values: Mapping[str, Value]
) -> Iterator[str | Bound]:
    done = 0
    for place, name in _places(text, dialect):
        yield text[done:place]
        yield Bound(name, values[name])
        done = place + 1 + len(name)
    yield text[done:]


def _places(text: str, dialect: str) -> Iterator[tuple[int, str]]:
    """Where the parameters stand, and their names."""
    tokens = sqlglot.tokenize(text, read=dialect)
    for colon, word in zip(tokens, tokens[1:], strict=False):
        is_name = (
            word.text.isidentifier()
            and word.start == colon.end + 1
            and text[word.start] == word.text[:1]
        )
        if colon.token_type.name == "COLON" and is_name:
            yield colon.start, word.text
