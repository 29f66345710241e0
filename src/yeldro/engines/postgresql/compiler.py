"""Statements in which everything of ours is named in full, so that nobody's function, operator or
type stands in.

A person's own condition in them follows their search path, and so does what their triggers call.
Whoever may create in a schema of that path could otherwise define `public.max(varchar)` or
`public.=(varchar, varchar)`, which fit better than the server's own
(https://www.postgresql.org/docs/current/typeconv-func.html).
"""

from __future__ import annotations

from typing import Any

import sqlalchemy as sa
from sqlalchemy.dialects.postgresql.psycopg import PGCompiler_psycopg

# What looks like a function and is part of the grammar.
_GRAMMAR = {"coalesce", "greatest", "least", "row", "xmlserialize"}
# Letters of operators that can be named in full.
_SIGNS = set("+-*/<>=~!@#%^&|`?")


class Equated(sa.types.UserDefinedType[Any]):
    """The type of a column whose own equality does not come with the server, such as that of an
    extension.

    `sign` is the operator of the default way to sort or hash the type, in full.
    """

    cache_ok = True

    def __init__(self, sign: str) -> None:
        self.sign = sign


class FullCompiler(PGCompiler_psycopg):
    """Writes the name of every function and operator with its schema."""

    def visit_function(self, func: Any, add_to_result_map: Any = None, **options: Any) -> str:
        written = str(super().visit_function(func, add_to_result_map, **options))
        is_grammar = func.name.lower() in _GRAMMAR or func.packagenames
        return written if is_grammar else f"pg_catalog.{written}"

    def visit_mod_binary(self, binary: Any, operator: Any, **options: Any) -> str:
        return self._generate_generic_binary(
            binary, " %% " if self.preparer._double_percents else " % ", **options
        )

    def visit_is_distinct_from_binary(self, binary: Any, operator: Any, **options: Any) -> str:
        return f"NOT {self.visit_is_not_distinct_from_binary(binary, operator, **options)}"

    def visit_is_not_distinct_from_binary(self, binary: Any, operator: Any, **options: Any) -> str:
        """The words of the grammar would look for an equal sign in the search path."""
        left, right = (self.process(side, **options) for side in (binary.left, binary.right))
        if isinstance(binary.right, sa.sql.elements.Null):
            return f"({left} IS NULL)"
        sign = _find_sign(binary.left, binary.right)
        return f"COALESCE({left} {sign} {right}, {left} IS NULL AND {right} IS NULL)"

    def visit_between_op_binary(self, binary: Any, operator: Any, **options: Any) -> str:
        low, high = binary.right.clauses
        return str(
            self.process(sa.and_(binary.left >= low, binary.left <= high).self_group(), **options)
        )

    def _generate_generic_binary(
        self, binary: Any, opstring: str, eager_grouping: bool = False, **options: Any
    ) -> str:
        sign = opstring.strip().replace("%%", "%")
        if sign in ("IN", "NOT IN") and not isinstance(binary.right, sa.sql.elements.Grouping):
            return self._write_among(binary, sign, **options)
        if not set(sign) <= _SIGNS and not sign.startswith("OPERATOR("):
            return str(
                super()._generate_generic_binary(binary, opstring, eager_grouping, **options)
            )
        options["_in_operator_expression"], options["_binary_op"] = True, binary.operator
        left, right = (
            side._compiler_dispatch(self, **options) for side in (binary.left, binary.right)
        )
        if sign in ("=", "!=", "<>"):
            written = f"{left} {_find_sign(binary.left, binary.right)} {right}"
            return f"({written})" if sign == "=" else f"(NOT {written})"
        full = sign if sign.startswith("OPERATOR(") else f"OPERATOR(pg_catalog.{opstring.strip()})"
        return f"({left} {full} {right})"

    def _write_among(self, binary: Any, sign: str, **options: Any) -> str:
        """Whether a value, or several side by side, is among the rows of a query."""
        cells = (
            list(binary.left.clauses)
            if isinstance(binary.left, sa.sql.elements.Tuple)
            else [binary.left]
        )
        among = binary.right.element.selected_columns
        signs = [_find_sign(cell, there) for cell, there in zip(cells, among, strict=True)]
        rows = self.process(binary.right, **options)
        if len(set(signs)) == 1:
            way = f"{signs[0]} ANY"
            written = f"{self.process(binary.left, **options)} {way} {rows}"
        else:
            names = [f"c{place}" for place in range(len(cells))]
            pairs = zip(cells, signs, names, strict=True)
            same = " AND ".join(
                f"{self.process(cell, **options)} {one} yeldro_any.{name}"
                for cell, one, name in pairs
            )
            written = (
                f"EXISTS (SELECT 1 FROM {rows} AS yeldro_any ({', '.join(names)}) WHERE {same})"
            )
        return f"(NOT {written})" if sign == "NOT IN" else f"({written})"


def _find_sign(left: Any, right: Any) -> str:
    """The equality of the type of both, a value that is bound being of any type."""
    signs = {
        side.type.sign if isinstance(side.type, Equated) else ""
        for side in (left, right)
        if not _is_value(side)
    }
    found = signs.pop() if len(signs) == 1 else ""
    return found or "OPERATOR(pg_catalog.=)"


def _is_value(side: Any) -> bool:
    return isinstance(side, sa.BindParameter | sa.sql.elements.Null)
