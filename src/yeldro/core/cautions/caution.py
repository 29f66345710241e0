"""Named warnings about a selection or a schema: what was found, why it matters and what to do."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Sequence
from dataclasses import dataclass

from yeldro.core.model.schema import Reference, Schema, Table, nearest
from yeldro.errors import UsageError


@dataclass(frozen=True, slots=True)
class Caution:
    name: str
    subject: str
    message: str


# Every caution there is, for --strict.
NAMES = (
    "whole-table",
    "always-true",
    "never-true",
    "null-in-list",
    "null-left-out",
    "null-reference",
    "outer-column",
    "quoted-word",
    "mixed-and-or",
    "text-as-number",
    "case-blind",
    "wildcard",
    "end-of-day",
    "approximate-number",
    "changing-condition",
    "not-unique",
    "unparsed",
    "ties-at-limit",
    "no-key",
    "unindexed-reference",
    "undeclared-reference",
    "unenforced-reference",
    "trigger",
    "row-security",
    "not-transactional",
    "hidden-reference",
    "large-group",
    "mixed-types",
)


_HAPPENS = {"DELETE": "deleted", "UPDATE": "updated"}
CANNOT_ROLL_BACK = "cannot roll back"
"""How the refusal of a table ends whose changes stay whatever happens."""


def read_strict(texts: Sequence[str]) -> frozenset[str]:
    """The cautions that stop a run. UsageError for a name that there is not."""
    wanted = {name.strip() for text in texts for name in text.split(",")}
    for name in wanted - {*NAMES, "all"}:
        raise UsageError(f"There is no caution {name!r}.", nearest(name, NAMES, "cautions"))
    return frozenset(NAMES if "all" in wanted else wanted)


def ties_at_limit(table: Table, limit: int, columns: Sequence[str], rows: int) -> Caution:
    return Caution(
        "ties-at-limit",
        f"{table.label}.{', '.join(columns)}",
        f"{rows:,} more rows have the same {', '.join(columns)} as the last of the {limit:,}, and "
        "only the key decided "
        "between them. Add a column to --order-by, or change --limit.",
    )


WHOLE_IS_MEANT = "As --all-rows says."
WHOLE_IS_NOT = "If that is meant, say --all-rows; if not, narrow the condition."


def truncate(table: Table, message: str) -> Caution:
    return Caution("not-transactional", table.label, message)


def whole_table(table: Table, rows: int, advice: str) -> Caution:
    return Caution(
        "whole-table",
        table.label,
        f"All {rows:,} rows of {table.label} match, so nothing of the table would be left. "
        f"{advice}",
    )


def undeclared_reference(subject: str, distinct: int, fitting: int) -> Caution:
    return Caution(
        "undeclared-reference",
        subject,
        f"By its name, type and values ({fitting:,} of {distinct:,} fit) this is a reference that "
        "the schema does not "
        "declare, so nothing follows it. If it is one, put it into yeldro.toml.",
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
        "index would too; look "
        "at them, and add an expression to --same where they should stay apart.",
    )


def large_group(table: Table, same: str, rows: int) -> Caution:
    return Caution(
        "large-group",
        table.label,
        f"One group holds {rows:,} rows with the same {same}, far more than the others. That is "
        "often a value that "
        "stands for nothing, such as a placeholder. Look at it, and leave it out with --where if "
        "so.",
    )


def unindexed_check(reference: Reference, checks: int, rows: int) -> Caution:
    return Caution(
        "unindexed-reference",
        str(reference),
        f"No index of {reference.child.label} begins with {', '.join(reference.columns)}, so for "
        "each of the "
        f"{checks:,} rows deleted from {reference.parent.label} the database would look through "
        f"{rows:,} rows. The "
        f"run builds an index first and drops it before it commits, which keeps writers of "
        f"{reference.child.label} waiting. A lasting index would be better.",
    )


def hidden_reference(table: Table, reason: str) -> Caution:
    return Caution(
        "hidden-reference",
        table.label,
        f"Not everything that depends on {table.label} can be seen: {reason}. No row of "
        f"{table.label} is deleted "
        "until it can.",
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
            "values. "
            "Give it one where you can.",
        )
    if table.refusal.endswith(CANNOT_ROLL_BACK):
        yield Caution(
            "not-transactional",
            table.label,
            f"Nothing is deleted from {table.label}, because {table.refusal}.",
        )
    for reference in schema.outgoing(table):
        if reference.broken:
            yield Caution(
                "unenforced-reference",
                str(reference),
                f"{reference.broken}, so the database cannot enforce it. Mend or drop the "
                "reference.",
            )
        elif not reference.enforced and reference.declared:
            yield Caution(
                "unenforced-reference",
                str(reference),
                "Its checks are switched off, or old rows were never checked, so rows may point "
                "at nothing. "
                "Yeldro follows and checks it all the same.",
            )
        elif not reference.is_indexed:
            yield Caution(
                "unindexed-reference",
                str(reference),
                f"No index of {table.label} begins with {', '.join(reference.columns)}, so every "
                "deletion from "
                f"{reference.parent.label} scans the whole table. Add an index.",
            )
    if table.name in schema.hidden:
        yield hidden_reference(table, schema.hidden[table.name])
    if table.row_security:
        yield Caution(
            "row-security",
            table.label,
            f"Row security is on for {table.label}: another role may see other rows. Where it "
            "would hide rows from "
            "this role, the run fails instead of missing them.",
        )
    for trigger in table.triggers:
        met = [_HAPPENS[event] for event in events if event in trigger.event]
        if trigger.enabled and met:
            yield Caution(
                "trigger",
                f"{table.label}.{trigger.name}",
                f"The trigger {trigger.name} runs when rows of {table.label} are "
                f"{' or '.join(met)} and may change "
                "other tables. Read it before you delete.",
            )
