"""What the catalogue alone says about tables whose rows would go."""

from __future__ import annotations

from collections.abc import Collection, Iterator

from yeldro.core.cautions.caution import CANNOT_ROLL_BACK, Caution
from yeldro.core.model.schema import Reference, Schema, Table

_HAPPENS = {"DELETE": "deleted", "UPDATE": "updated"}


def undeclared_reference(subject: str, distinct: int, fitting: int) -> Caution:
    return Caution(
        "undeclared-reference",
        subject,
        f"By its name, type and values ({fitting:,} of {distinct:,} fit) this is a reference that "
        "the schema does not declare, so nothing follows it. If it is one, put it into "
        "yeldro.toml.",
    )


def hidden_reference(table: Table, reason: str) -> Caution:
    return Caution(
        "hidden-reference",
        table.label,
        f"Not everything that depends on {table.label} can be seen: {reason}. No row of "
        f"{table.label} is deleted until it can.",
    )


def find_schema_cautions(
    schema: Schema, table: Table, events: Collection[str] = ("DELETE",)
) -> Iterator[Caution]:
    """What the catalogue alone says about a table whose rows are deleted, or updated, as `events`
    say."""
    if table.kind != "table":
        return
    if not table.key:
        yield Caution(
            "no-key",
            table.label,
            f"{table.label} has no primary key, so equal rows cannot be told apart by their "
            "values. Give it one where you can.",
        )
    if table.refusal.endswith(CANNOT_ROLL_BACK):
        yield Caution(
            "not-transactional",
            table.label,
            f"Nothing is deleted from {table.label}, because {table.refusal}.",
        )
    for reference in schema.outgoing(table):
        yield from _find_reference_cautions(reference)
    if table.name in schema.hidden:
        yield hidden_reference(table, schema.hidden[table.name])
    if table.row_security:
        yield Caution(
            "row-security",
            table.label,
            f"Row security is on for {table.label}: another role may see other rows. Where it "
            "would hide rows from this role, the run fails instead of missing them.",
        )
    for trigger in table.triggers:
        met = [_HAPPENS[event] for event in events if event in trigger.event]
        if trigger.enabled and met:
            yield Caution(
                "trigger",
                f"{table.label}.{trigger.name}",
                f"The trigger {trigger.name} runs when rows of {table.label} are "
                f"{' or '.join(met)} and may change other tables. Read it before you delete.",
            )


def _find_reference_cautions(reference: Reference) -> Iterator[Caution]:
    if reference.broken:
        yield Caution(
            "unenforced-reference",
            str(reference),
            f"{reference.broken}, so the database cannot enforce it. Fix or drop the reference.",
        )
    elif not reference.enforced and reference.declared:
        yield Caution(
            "unenforced-reference",
            str(reference),
            "Its checks are switched off, or old rows were never checked, so rows may point at "
            "nothing. Yeldro follows and checks it all the same.",
        )
    elif not reference.is_indexed:
        yield Caution(
            "unindexed-reference",
            str(reference),
            f"No index of {reference.child.label} begins with {', '.join(reference.columns)}, so "
            f"every deletion from {reference.parent.label} scans the whole table. Add an index.",
        )
