"""Cautions about the rows that a selection matched."""

from __future__ import annotations

from collections.abc import Sequence

from yeldro.core.cautions.caution import Caution, caution
from yeldro.core.model.schema import Reference, Table


def ties_at_limit(table: Table, limit: int, columns: Sequence[str], rows: int) -> Caution:
    subject = f"{table.label}.{', '.join(columns)}"
    return caution("ties-at-limit", subject, rows=rows, columns=columns, limit=limit)


def truncate(table: Table, reason: str) -> Caution:
    return caution("not-transactional", table.label, "truncate", reason=reason)


def reused_key(table: Table, variant: str = "") -> Caution:
    return caution("reused-key", table.label, variant, table=table)


def whole_table(table: Table, rows: int, variant: str) -> Caution:
    """`variant`: "meant" or "not-meant", the same with "clear-" before it, or "script"."""
    return caution("whole-table", table.label, variant, rows=rows, table=table)


def null_reference(table: Table, columns: Sequence[str], rows: int, *, found: bool) -> Caution:
    return caution(
        "null-reference",
        f"{table.label}.{', '.join(columns)}",
        "found" if found else "not-found",
        rows=rows,
        table=table,
        columns=columns,
        condition=f"{columns[0]} IS NOT NULL",
    )


def case_blind_groups(table: Table, column: str, groups: int) -> Caution:
    subject = f"{table.label}.{column}"
    return caution("case-blind", subject, "groups", groups=groups, column=column)


def large_group(table: Table, same: str, rows: int) -> Caution:
    return caution("large-group", table.label, rows=rows, same=same)


def unindexed_check(reference: Reference, checks: int, rows: int) -> Caution:
    return caution(
        "unindexed-reference",
        str(reference),
        "check",
        child=reference.child,
        columns=reference.columns,
        checks=checks,
        parent=reference.parent,
        rows=rows,
    )
