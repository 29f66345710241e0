"""The person's own condition inside a statement: their text untouched, their parameters bound."""

from __future__ import annotations

from typing import Any

from sqlalchemy import Boolean, bindparam
from sqlalchemy.ext.compiler import compiles
from sqlalchemy.sql.compiler import SQLCompiler
from sqlalchemy.sql.elements import BindParameter, ColumnElement

from yeldro.core.condition import Bound, Condition


class Fragment(ColumnElement[bool]):
    """A condition in brackets. Unlike `text()` it looks for no parameters of its own in what was written."""

    inherit_cache = False
    type = Boolean()

    def __init__(self, condition: Condition, adapt: Any) -> None:
        self.pieces: list[str | BindParameter[Any]] = [
            bindparam(None, adapt(piece.value)) if isinstance(piece, Bound) else piece for piece in condition.pieces
        ]

    def self_group(self, against: Any = None) -> Fragment:
        """As it is: engines without a boolean type would get `= 1` behind it, which is another condition."""
        return self


@compiles(Fragment)
def _compile(fragment: Fragment, compiler: SQLCompiler, **options: Any) -> str:
    written = "".join(
        str(compiler.escape_literal_column(piece))  # type: ignore[no-untyped-call]  # SQLAlchemy has no type for it
        if isinstance(piece, str)
        else compiler.process(piece, **options)
        for piece in fragment.pieces
    )
    # The line break keeps a bracket out of a comment that the reader of conditions did not see.
    return f"({written}\n)"
