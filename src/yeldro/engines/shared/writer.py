"""Statements as texts: compiled with their values in them, and never changed afterwards."""

from __future__ import annotations

from collections.abc import Callable
from copy import copy
from typing import Any

import sqlalchemy as sa

from yeldro.core.model.grammar import sqlglot
from yeldro.errors import Refused

Literal = Callable[[Any], str]


class Writer:
    """Writes statements of one dialect. `literal` writes values; names of the schema `leave_out` go
    without it.

    For people it writes in the dialect's plain way; with `as_sent` in that of the connection.
    """

    def __init__(
        self,
        like: sa.Dialect,
        reader: str,
        literal: Literal,
        leave_out: str = "",
        *,
        as_sent: bool = False,
    ) -> None:
        """`like` is the dialect of the connection, `reader` its name for the parser."""
        kind: Any = type(like)

        class Names(kind.preparer):  # type: ignore[misc]  # a class that is known only now
            def quote_identifier(self, value: str) -> str:
                if "\r" in value or "\0" in value:
                    raise Refused(
                        "A name holds a character that clients change, so no script can hold it."
                    )
                return str(super().quote_identifier(value))

            def quote_schema(self, schema: str, force: Any = None) -> str:
                return schema if schema == "temp" else str(super().quote_schema(schema))

        base = like.statement_compiler if as_sent else kind.statement_compiler

        class Compiler(base):  # type: ignore[misc,valid-type]  # as above
            is_written = True

            def render_literal_value(self, value: Any, type_: Any) -> str:
                return literal(value)

            def visit_table(self, *arguments: Any, **options: Any) -> str:
                """A name without its schema is not ambiguous for that."""
                return str(
                    super().visit_table(*arguments, **{**options, "ambiguous_table_name_map": None})
                )

            def visit_column(self, *arguments: Any, **options: Any) -> str:
                return str(
                    super().visit_column(
                        *arguments, **{**options, "ambiguous_table_name_map": None}
                    )
                )

            def write_text(self, text: str) -> str:
                return _write_text(text, reader, literal)

        # What it has learned about its server stays. A named style of parameters leaves percent
        # signs as they are.
        self._dialect: Any = copy(like)
        self._dialect.paramstyle, self._dialect.positional = "named", False
        self._dialect.preparer = Names
        self._dialect.statement_compiler = Compiler
        self._dialect.identifier_preparer = names = Names(self._dialect)
        names.schema_for_object = lambda table: None if table.schema == leave_out else table.schema

    def write(self, statement: Any) -> str:
        """A statement with its values."""
        return str(statement.compile(dialect=self._dialect, compile_kwargs={"literal_binds": True}))


def _write_text(text: str, reader: str, literal: Literal) -> str:
    """A person's own words, but for texts in quotes that hold what clients change: those are
    written anew.

    Refused where such a character stands elsewhere, and is no blank.
    """
    if text.isprintable():
        return text
    parts, done = [], 0
    for token in sqlglot.tokenize(text, read=reader):
        own = text[token.start : token.end + 1]
        if own.isprintable():
            continue
        if token.token_type.name != "STRING":
            raise Refused(
                "A condition holds a character that clients change, so no script can hold it."
            )
        parts += [text[done : token.start], literal(token.text)]
        done = token.end + 1
    return "".join([*parts, text[done:]])
