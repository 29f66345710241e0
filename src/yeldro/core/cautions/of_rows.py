"""Cautions about the rows that a selection matched."""

from __future__ import annotations

from collections.abc import Sequence

from yeldro.core.cautions.caution import Caution
from yeldro.core.model.schema import Reference, Table


def ties_at_limit(table: Table, limit: int, columns: Sequence[str], rows: int) -> Caution:
    return Caution(
        "ties-at-limit",
        f"{table.label}.{', '.join(columns)}",
        f"{rows:,} more rows have the same {', '.join(columns)} as the last of the {limit:,}, and "
        "only the key decided between them. Add a column to --order-by, or change --limit.",
    )


WHOLE_IS_MEANT = "Allowed by --all-rows."


WHOLE_IS_NOT = "If that is meant, give --all-rows; if not, narrow the condition."


def truncate(table: Table, message: str) -> Caution:
    return Caution("not-transactional", table.label, message)


def whole_table(table: Table, rows: int, advice: str) -> Caution:
    return Caution(
        "whole-table",
        table.label,
        f"All {rows:,} rows of {table.label} match, so nothing of the table would be left. "
        f"{advice}",
    )


def null_reference(table: Table, columns: Sequence[str], rows: int, *, found: bool) -> Caution:
    names = ", ".join(columns)
    effect = (
        "so they are not among the matched rows"
        if found
        else f'so they match as lacking one. Leave them out with --where "{columns[0]} IS NOT NULL"'
    )
    return Caution(
        "null-reference",
        f"{table.label}.{names}",
        f"{rows:,} rows of {table.label} hold NULL in {names}. NULL equals nothing, {effect}.",
    )


def case_blind_groups(table: Table, column: str, groups: int) -> Caution:
    return Caution(
        "case-blind",
        f"{table.label}.{column}",
        f"In {groups:,} groups the collation of {column} makes several spellings one. A unique "
        "index would too; look at them, and add an expression to --same where they should stay "
        "apart.",
    )


def large_group(table: Table, same: str, rows: int) -> Caution:
    return Caution(
        "large-group",
        table.label,
        f"One group holds {rows:,} rows with the same {same}, far more than the others. That is "
        "often a value that stands for nothing, such as a placeholder. Look at it, and leave it "
        "out with --where if so.",
    )


def unindexed_check(reference: Reference, checks: int, rows: int) -> Caution:
    return Caution(
        "unindexed-reference",
        str(reference),
        f"No index of {reference.child.label} begins with {', '.join(reference.columns)}, so for "
        f"each of the {checks:,} rows deleted from {reference.parent.label} the database would "
        f"look through {rows:,} rows. The run builds an index first and drops it before it "
        f"commits, which keeps writers of {reference.child.label} waiting. A lasting index would "
        "be better.",
    )
