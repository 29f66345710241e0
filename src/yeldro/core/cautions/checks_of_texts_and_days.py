"""Mistakes with texts, days and moments: spellings that are merged, wildcards, the end of a day,
the clock."""

from __future__ import annotations

import re
from collections.abc import Iterator

from yeldro.core.cautions.caution import Caution, caution
from yeldro.core.cautions.examination import Look
from yeldro.core.database.abilities import Quirk
from yeldro.core.model.grammar import exp
from yeldro.core.model.schema import Column, Family

# Functions with another value for every row.
_CHANGING = {
    "random",
    "rand",
    "uuid",
    "gen_random_uuid",
    "newid",
    "randomblob",
    "clock_timestamp",
    "sysdate",
}


# Functions with one value for a statement, and another for the next.
_CLOCKS = {
    "now",
    "current_timestamp",
    "current_date",
    "currenttimestamp",
    "currentdate",
    "curdate",
    "localtimestamp",
}


_DAY = re.compile(r"\d{4}-\d{2}-\d{2}")


def check_case(look: Look, tree: exp.Expr) -> Iterator[Caution]:
    """Comparisons in which a collation makes several spellings one."""
    if look.keys.table is not look.scopes.table:
        return  # a view may give its columns other names, or those of others
    for node in tree.find_all(exp.EQ, exp.In, exp.Like):
        column = look.scopes.column(node.this)
        if column is None or not _is_blind(look, column, node):
            continue
        if isinstance(node.parent, exp.Not) or node.find_ancestor(exp.Select):
            continue
        texts = _find_texts(node)
        spellings = look.database.find_spellings(look.keys, column.name, 6) if texts else ()
        if len(spellings) > len(texts):
            shown = [*map(repr, spellings[:5]), *("…" for _ in spellings[5:6])]
            yield caution(
                "case-blind",
                f"{look.table_label}.{column.name}",
                column=column.name,
                spellings=shown,
            )


def _find_texts(node: exp.Expr) -> list[exp.Expr]:
    """The values that a column is compared with; none where a pattern stands for many."""
    values = [*node.expressions, node.args.get("expression")]
    texts: list[exp.Expr] = [
        value for value in values if isinstance(value, exp.Literal | exp.Placeholder)
    ]
    if isinstance(node, exp.Like) and texts and isinstance(texts[0], exp.Literal):
        pattern = texts[0].name
        return [] if "%" in pattern or "_" in pattern else texts
    return texts


def _is_blind(look: Look, column: Column, node: exp.Expr) -> bool:
    blind = (
        column.collation.lower().endswith("_ci")
        or column.collation.upper() == "NOCASE"
        or "citext" in column.type
    )
    return blind or (isinstance(node, exp.Like) and Quirk.BLIND_LIKE in look.quirks)


def check_wildcards(look: Look, tree: exp.Expr) -> Iterator[Caution]:
    for node in tree.find_all(exp.Like):
        pattern = node.expression
        if (
            not isinstance(pattern, exp.Literal)
            or "_" not in pattern.this
            or isinstance(node.parent, exp.Escape)
        ):
            continue
        if (
            isinstance(node.parent, exp.Not)
            or node.find_ancestor(exp.Select)
            or look.scopes.column(node.this) is None
        ):
            continue
        plain = pattern.this.replace("!", "!!").replace("_", "!_").replace("'", "''")
        what = look.written(node.this)
        rows = look.count(f"({look.written(node)}) AND NOT ({what} LIKE '{plain}' ESCAPE '!')")
        if rows:
            yield caution("wildcard", look.written(node), rows=rows, what=what, plain=plain)


def check_ends_of_days(look: Look, tree: exp.Expr) -> Iterator[Caution]:
    for node in tree.find_all(exp.Between, exp.LTE):
        end = node.args["high"] if isinstance(node, exp.Between) else node.expression
        column = look.scopes.column(node.this)
        is_day = isinstance(end, exp.Literal) and end.is_string and _DAY.fullmatch(end.this)
        if column is None or column.family is not Family.TIMESTAMP or not is_day:
            continue
        what = look.written(node.this)
        rows = (
            look.count(f"{what} > '{end.this}' AND {what} LIKE '{end.this}%'")
            if look.quirks & {Quirk.UNTYPED}
            else None
        )
        if rows != 0:
            yield caution(
                "end-of-day",
                look.written(node),
                "rows" if rows else "",
                column=column.name,
                day=end.this,
                rows=rows,
                what=what,
            )


def check_changing(look: Look, tree: exp.Expr) -> Iterator[Caution]:
    for node in tree.find_all(exp.Func):
        name = (node.name if isinstance(node, exp.Anonymous) else node.sql_name()).lower()
        argument = str(node.args.get("this") or "").lower()
        if name in _CHANGING:
            yield caution(
                "changing-condition", look.written(node), "value", written=look.written(node)
            )
        elif name in _CLOCKS or (
            name in ("date", "datetime", "tsordstodate", "cast") and "'now'" in argument
        ):
            yield caution(
                "changing-condition", look.written(node), "clock", written=look.written(node)
            )
