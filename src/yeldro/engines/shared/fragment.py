"""The person's own condition inside a statement: their text untouched, their parameters bound."""

from __future__ import annotations

from typing import Any

from sqlalchemy import Boolean, bindparam
from sqlalchemy.ext.compiler import compiles
from sqlalchemy.sql.elements import BindParameter, ColumnElement

from yeldro.core.selection.condition import Condition
from yeldro.core.selection.parameters import Bound


class Fragment(ColumnElement[bool]):
    """A condition in brackets. Unlike `text()` it looks for no parameters of its own in what was
    written."""

    inherit_cache = False
    type = Boolean()

    def __init__(self, condition: Condition, adapt: Any) -> None:
        self.pieces: list[str | BindParameter[Any]] = [
            bindparam(None, adapt(piece.value)) if isinstance(piece, Bound) else piece
            for piece in condition.pieces
        ]

    def self_group(self, against: Any = None) -> Fragment:
        """As it is: engines without a boolean type would get `= 1` behind it, which is another
        condition."""
        return self


@compiles(Fragment)
def _compile(fragment: Fragment, compiler: Any, **options: Any) -> str:
    is_written = getattr(compiler, "is_written", False)
    write: Any = compiler.write_text if is_written else compiler.escape_literal_column
    written = "".join(
        str(write(piece)) if isinstance(piece, str) else compiler.process(piece, **options)
        for piece in fragment.pieces
    )
    # A line break keeps the bracket out of a comment that the reader of conditions did not see.
    safe = is_written and not any(mark in written for mark in ("--", "#", "/*"))
    return f"({written})" if safe else f"({written}\n)"
