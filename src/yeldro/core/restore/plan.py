"""What a restoration would do: how the archived rows stand against those that are there."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field

from yeldro.core.database.archive_format import Portion, Stage, Standing
from yeldro.core.database.connection import Database
from yeldro.core.model.graph import find_components
from yeldro.core.model.schema import Reference, Table, overlaps


@dataclass(frozen=True, slots=True, eq=False)
class RestorePart:
    """One stage, how it stands, and how many of its rows point at no row, by reference.

    How one stands that `waits` is only known when later steps of the run are undone, which touched
    rows of its table. Of its rows `beside` stand in an earlier part for the same action too, and
    `again` of those to be restored do: a row counts once an action.
    """

    stage: Stage
    standing: Standing
    parentless: Mapping[Reference, int] = field(default_factory=dict)
    waits: bool = False
    beside: int = 0
    again: int = 0

    @property
    def table(self) -> Table:
        return self.stage.table

    @property
    def is_change(self) -> bool:
        """Whether its rows stayed, and were detached, moved or filled."""
        return self.stage.portion.action != "delete"

    @property
    def to_do(self) -> int:
        """How many rows get their old selves back; at most, where it waits."""
        if self.waits and self.is_change:
            return self.standing.rows - self.standing.same
        return self.standing.back if self.is_change else self.standing.absent


@dataclass(frozen=True, slots=True, eq=False)
class RestorePlan:
    """What a restoration would do. `parts` stand in the order in which it goes: the last step of
    the run first, and within a step parents first, detachments last. `refusals` forbid it."""

    database: str
    run: str
    parts: tuple[RestorePart, ...]
    notes: tuple[str, ...] = ()
    refusals: tuple[str, ...] = ()

    @property
    def rows(self) -> int:
        return sum(part.to_do - part.again for part in self.parts)

    @property
    def inserted(self) -> int:
        return sum(part.to_do for part in self.parts if not part.is_change)

    def figures(self) -> list[tuple[int, Standing]]:
        return [(part.stage.portion.number, part.standing) for part in self.parts]


def find_entangled(portions: Sequence[Portion]) -> str:
    """A table of which several steps of a run may have touched the same rows, "" where there is
    none."""
    blurred = [one for one in portions if one.action != "delete" or not one.table.lasting_keys]
    both = (
        one
        for one in blurred
        for other in portions
        if other.table is one.table and other.step != one.step
    )
    return next((one.table.label for one in both), "")


def make_restore_plan(
    database: Database,
    run: str,
    stages: Sequence[Stage],
    *,
    keep_differing: bool,
    no_rollback: bool = False,
) -> RestorePlan:
    """Look at staged rows, in an open transaction. `no_rollback`: triggers may do what no rollback
    takes back."""
    parts: list[RestorePart] = []
    for step in sorted({stage.portion.step for stage in stages}, reverse=True):
        parts += look_at_step(
            database, [stage for stage in stages if stage.portion.step == step], tuple(parts)
        )
    return RestorePlan(
        database.title,
        run,
        tuple(parts),
        (
            *(note for part in parts for note in _notes(part, keep_differing)),
            *_find_altered(database, parts),
        ),
        (
            *(refusal for part in parts for refusal in find_refusals(part, keep_differing)),
            *([] if no_rollback else dict.fromkeys(_find_lasting(database, parts))),
        ),
    )


def _find_lasting(database: Database, parts: Sequence[RestorePart]) -> Iterator[str]:
    for part in parts:
        if part.to_do:
            changed = part.stage.portion.changed if part.is_change else None
            for reason in database.find_lasting(part.table, changed, "insert"):
                yield f"{reason[0].upper()}{reason[1:]}; --no-rollback says that this is known."


def look_at_step(
    database: Database, stages: Sequence[Stage], later: Sequence[RestorePart] = ()
) -> Iterator[RestorePart]:
    """The parts of one step of the run. Those of `later` steps will be undone before them."""
    back = [stage for stage in stages if stage.portion.action == "delete"]
    changes = [stage for stage in stages if stage not in back]
    parents = [*back, *(part.stage for part in later if not part.is_change)]
    for stage in [*(stage for group in in_order(database, back) for stage in group), *changes]:
        standing = database.stand(stage)
        if (stage in changes or not stage.key) and any(part.table is stage.table for part in later):
            yield RestorePart(stage, standing, waits=True)
            continue
        wanted = standing.absent if stage in back else standing.back
        parentless = dict(find_parentless(database, stage, parents)) if wanted else {}
        known = (
            [one for one in changes[: changes.index(stage)] if _is_same_action(one, stage)]
            if stage in changes
            else []
        )
        beside, again = database.count_beside(stage, known) if known else (0, 0)
        yield RestorePart(stage, standing, parentless, beside=beside, again=again)


def _is_same_action(one: Stage, other: Stage) -> bool:
    return (
        one.table is other.table
        and one.portion.action == other.portion.action
        and bool(one.key)
        and one.key == other.key
    )


def find_links(database: Database, stage: Stage) -> Sequence[Reference]:
    """The references that come back with staged rows."""
    portion = stage.portion
    if portion.reference:
        return [portion.reference]
    found = database.schema.outgoing(stage.table)
    return [one for one in found if not portion.changed or set(one.columns) & set(portion.changed)]


def in_order(database: Database, stages: Sequence[Stage]) -> list[list[Stage]]:
    """Parents before what references them; tables that reference each other in a circle stand
    together."""
    by_table = {stage.table.name: stage for stage in stages}
    edges = [(reference.parent.name, reference.child.name) for reference in database.schema.acting]
    return [[by_table[name] for name in group] for group in find_components(list(by_table), edges)]


def find_parentless(
    database: Database, stage: Stage, stages: Sequence[Stage]
) -> Iterator[tuple[Reference, int]]:
    """References of the staged rows that would point at nothing, beyond those that did so before
    the run."""
    portion = stage.portion
    for reference in find_links(database, stage):
        if reference.broken or not set(reference.columns) <= set(portion.columns):
            continue
        parents = [other for other in stages if overlaps(other.table, reference.parent)]
        kept = [
            parent for parent in parents if set(reference.referred) <= set(parent.portion.columns)
        ]
        if rows := database.count_parentless(reference, stage, kept):
            yield reference, rows


def _find_altered(database: Database, parts: Sequence[RestorePart]) -> Iterator[str]:
    """Triggers may have changed more of a row than the run did, and so may anybody since."""
    changes = [part for part in parts if part.is_change and part.standing.back and not part.waits]
    for part in changes:
        known = {
            name
            for other in changes
            if other.table is part.table
            for name in other.stage.portion.changed
        }
        columns = ", ".join(
            name for name in database.find_differing(part.stage) if name not in known
        )
        if columns:
            yield (
                f"Rows of {part.table.label} are not as before the run in {columns}; that is left "
                "alone."
            )


def _notes(part: RestorePart, keep_differing: bool) -> Iterator[str]:
    portion, standing, label = part.stage.portion, part.standing, part.table.label
    if part.waits:
        yield (
            f"How many of {standing.rows:,} rows of {label} come back is known when later steps "
            "are undone."
        )
        return
    if part.is_change and standing.differing:
        yield (
            f"{standing.differing:,} rows of {label} are not as the run left them; they are left "
            "alone."
        )
    if part.is_change and standing.absent:
        yield (
            f"{standing.absent:,} rows of {label} that the run changed are gone; they are left "
            "alone."
        )
    if not part.is_change and standing.differing and keep_differing:
        yield (
            f"{standing.differing:,} rows of {label} are there with other values; they are left "
            "alone."
        )
    if portion.left_out and not part.is_change and standing.absent:
        for name in portion.left_out:
            yield f"{label}.{name} is not in the archive: it comes back as its default."


def find_refusals(part: RestorePart, keep_differing: bool) -> Iterator[str]:
    portion, standing, label = part.stage.portion, part.standing, part.table.label
    if part.waits:
        return
    if part.is_change:
        differing = 0 if part.stage.key else standing.rows - standing.same - standing.back
    else:
        differing = standing.differing if part.stage.key else standing.there - standing.same
    if differing and not (keep_differing and part.stage.key):
        if part.stage.key:
            yield (
                f"Rows with other values have taken {differing:,} of the keys of {label};"
                " --differing keep leaves those."
            )
        else:
            yield (
                f"{label} has no key, and rows like the archived ones came or went since: nobody "
                "knows which."
            )
    for reference, rows in part.parentless.items():
        if rows > (portion.orphans or {}).get(str(reference), 0):
            yield (
                f"{rows:,} rows of {label} reference rows of {reference.parent.label} that are "
                f"gone ({reference})."
            )
    if portion.left_out and not part.is_change and standing.absent:
        for name in portion.left_out:
            column = part.table.column(name)
            if not (column.nullable or column.default or column.generated):
                yield f"{label}.{name} was left out of the archive, and it needs a value."
