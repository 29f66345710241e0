"""What the catalogue alone says about tables whose rows would go."""

from __future__ import annotations

from collections.abc import Collection, Iterator

from yeldro.core.cautions.caution import CANNOT_ROLL_BACK, Caution, caution
from yeldro.core.model.schema import Reference, Schema, Table

# For the sentence: "when rows are deleted or updated".
_HAPPENS = {"DELETE": "deleted", "UPDATE": "updated"}


def undeclared_reference(subject: str, distinct: int, fitting: int) -> Caution:
    return caution("undeclared-reference", subject, distinct=distinct, fitting=fitting)


def hidden_reference(table: Table, reason: str) -> Caution:
    return caution("hidden-reference", table.label, table=table, reason=reason)


def find_schema_cautions(
    schema: Schema, table: Table, events: Collection[str] = ("DELETE",)
) -> Iterator[Caution]:
    """What the catalogue alone says about a table whose rows are deleted, or updated, as `events`
    say."""
    if table.kind != "table":
        return
    if not table.key:
        yield caution("no-key", table.label, table=table)
    if table.refusal.endswith(CANNOT_ROLL_BACK):
        yield caution("not-transactional", table.label, table=table, reason=table.refusal)
    for reference in schema.outgoing(table):
        yield from _find_reference_cautions(reference)
    if table.name in schema.hidden:
        yield hidden_reference(table, schema.hidden[table.name])
    if table.row_security:
        yield caution("row-security", table.label, table=table)
    for trigger in table.triggers:
        met = [_HAPPENS[event] for event in events if event in trigger.event]
        if trigger.enabled and met:
            subject, happens = f"{table.label}.{trigger.name}", " or ".join(met)
            yield caution("trigger", subject, trigger=trigger.name, table=table, happens=happens)


def _find_reference_cautions(reference: Reference) -> Iterator[Caution]:
    if reference.broken:
        yield caution("unenforced-reference", str(reference), "broken", reason=reference.broken)
    elif not reference.enforced and reference.declared:
        yield caution("unenforced-reference", str(reference))
    elif not reference.is_indexed:
        yield caution(
            "unindexed-reference",
            str(reference),
            child=reference.child,
            columns=reference.columns,
            parent=reference.parent,
        )
