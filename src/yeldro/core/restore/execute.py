"""Putting archived rows back: what would happen, and the work itself inside an open transaction."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from itertools import groupby

from yeldro.core.database.archive_format import Portion, Stage, Standing
from yeldro.core.database.connection import Database, Effect, KeySet
from yeldro.core.model.graph import find_components
from yeldro.core.model.schema import Reference, Table, overlaps
from yeldro.core.run.execute import find_causes, find_replaced, find_strangers, find_unknown
from yeldro.core.run.tally import Line, Tally, add_tallies
from yeldro.errors import Refused


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


def narrow(database: Database, stages: Sequence[Stage], root: Table, listed: KeySet) -> int:
    """Let the stages hold only the listed rows of `root`, and what hung on them when they went.

    Returns how many rows of `root` these are.
    """
    chosen = 0
    kept = {stage.portion.number: database.make_staged_set(stage) for stage in stages}
    back: dict[Table, list[KeySet]] = {}
    for stage in stages:
        if stage.portion.action == "delete":
            back.setdefault(stage.table, []).append(kept[stage.portion.number])
            if stage.table is root:
                chosen += database.pull_staged(stage, kept[stage.portion.number], None, listed)
    added = 1
    while added:
        added = 0
        for stage in stages:
            for reference in _find_links(database, stage):
                sets = [
                    kept_set
                    for table, some in back.items()
                    if overlaps(table, reference.parent)
                    for kept_set in some
                ]
                for parents in () if reference.broken else sets:
                    added += database.pull_staged(
                        stage, kept[stage.portion.number], reference, parents
                    )
    for stage in stages:
        database.keep_staged(stage, kept[stage.portion.number])
    return chosen


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
        parts += _look_at_step(
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
            *(refusal for part in parts for refusal in _refusals(part, keep_differing)),
            *([] if no_rollback else dict.fromkeys(_find_lasting(database, parts))),
        ),
    )


def _find_lasting(database: Database, parts: Sequence[RestorePart]) -> Iterator[str]:
    for part in parts:
        if part.to_do:
            changed = part.stage.portion.changed if part.is_change else None
            for reason in database.find_lasting(part.table, changed, "insert"):
                yield f"{reason[0].upper()}{reason[1:]}; --no-rollback says that this is known."


def _look_at_step(
    database: Database, stages: Sequence[Stage], later: Sequence[RestorePart] = ()
) -> Iterator[RestorePart]:
    """The parts of one step of the run. Those of `later` steps will be undone before them."""
    back = [stage for stage in stages if stage.portion.action == "delete"]
    changes = [stage for stage in stages if stage not in back]
    parents = [*back, *(part.stage for part in later if not part.is_change)]
    for stage in [*(stage for group in _in_order(database, back) for stage in group), *changes]:
        standing = database.stand(stage)
        if (stage in changes or not stage.key) and any(part.table is stage.table for part in later):
            yield RestorePart(stage, standing, waits=True)
            continue
        wanted = standing.absent if stage in back else standing.back
        parentless = dict(_find_parentless(database, stage, parents)) if wanted else {}
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


def _find_links(database: Database, stage: Stage) -> Sequence[Reference]:
    """The references that come back with staged rows."""
    portion = stage.portion
    if portion.reference:
        return [portion.reference]
    found = database.schema.outgoing(stage.table)
    return [one for one in found if not portion.changed or set(one.columns) & set(portion.changed)]


def _in_order(database: Database, stages: Sequence[Stage]) -> list[list[Stage]]:
    """Parents before what references them; tables that reference each other in a circle stand
    together."""
    by_table = {stage.table.name: stage for stage in stages}
    edges = [(reference.parent.name, reference.child.name) for reference in database.schema.acting]
    return [[by_table[name] for name in group] for group in find_components(list(by_table), edges)]


def _find_parentless(
    database: Database, stage: Stage, stages: Sequence[Stage]
) -> Iterator[tuple[Reference, int]]:
    """References of the staged rows that would point at nothing, beyond those that did so before
    the run."""
    portion = stage.portion
    for reference in _find_links(database, stage):
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


def _refusals(part: RestorePart, keep_differing: bool) -> Iterator[str]:
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


def run_restore(database: Database, plan: RestorePlan, *, keep_differing: bool = False) -> Tally:
    """Put the rows back, then prove it. The caller commits only a balanced tally.

    Several steps are undone one after the other, the last one first. Refused where that is known to
    be impossible only in the middle of it.
    """
    tallies = []
    for _, group in groupby(plan.parts, lambda part: part.stage.portion.step):
        parts = list(group)
        if any(part.waits for part in parts):
            parts = list(_look_at_step(database, [part.stage for part in parts]))
            for refusal in (
                refusal for part in parts for refusal in _refusals(part, keep_differing)
            ):
                raise Refused(refusal)
        tallies.append(_undo_step(database, parts))
    return add_tallies(tallies)


def _undo_step(database: Database, parts: Sequence[RestorePart]) -> Tally:
    """A kept row gives back what was filled in before the rows come back that it was taken from."""
    back = {part.stage: part for part in parts if not part.is_change and part.to_do}
    again = [part for part in parts if part.is_change and (part.to_do or part.stage.portion.waits)]
    for stage, part in back.items():
        if part.standing.there:
            database.keep_absent(stage)
    effects = [
        effect for stage in back for effect in database.find_effects(stage.table, None, "insert")
    ]
    for part in again:
        effects += database.find_effects(part.table, part.stage.portion.changed)
    touched = dict.fromkeys([*(stage.table for stage in back), *(part.table for part in again)])
    touched.update(dict.fromkeys(effect.table for effect in effects))
    staged = {
        table: [stage for stage in _stages(back, again) if stage.table is table]
        for table in touched
    }
    before = {table: database.count_rows(table) for table in touched}
    # Where a trigger may write to rows, what counts is whether any but the restored ones are other
    # rows in the end.
    foreseen = dict.fromkeys(effect.table for effect in effects if effect.verb != "insert")
    others = {table: database.digest_others(table, staged[table]) for table in foreseen}
    start = database.find_changes()
    done: Counter[Table] = Counter()
    for part in again:
        if part.stage.portion.waits:
            done[part.table] += database.empty_waiting(part.stage)
    filled = [part for part in again if part.stage.portion.action == "fill"]
    for part in filled:
        done[part.table] += database.reattach(part.stage)
    for group in _in_order(database, list(back)):
        counts = [database.insert(group[0])] if len(group) == 1 else database.insert_together(group)
        done.update(dict(zip((stage.table for stage in group), counts, strict=True)))
    for part in again:
        if part not in filled:
            done[part.table] += database.reattach(part.stage)
    database.force_checks()
    changed = database.find_changes().since(start)
    for table in find_strangers(database, before, changed):
        mine = changed.of(table)
        before[table] = database.count_rows(table) - mine.inserted + mine.deleted
    lines = [
        _account(database, table, rows, back, again, effects) for table, rows in before.items()
    ]
    for line in lines:
        done[line.table] += line.inserted_by_triggers
    explained = sum(rows * table.weight for table, rows in done.items())
    if changed.tables is not None:
        for table in touched:
            more = changed.of(table).total - done[table]
            explained += more if more and not database.count_touched(table, staged[table]) else 0
    elif (
        all(
            database.digest_others(table, staged[table]) == digest
            for table, digest in others.items()
        )
        and others
    ):
        explained = max(explained, changed.total)
    database.advance_counters(list(back))
    causes = tuple(find_causes(effects, before, "INSERT|UPDATE"))
    replaced = tuple(find_replaced(database, changed))
    return Tally(
        tuple(lines),
        changed.total,
        explained,
        tuple(find_unknown(database, changed)),
        causes,
        replaced,
    )


def _stages(back: Mapping[Stage, RestorePart], again: Sequence[RestorePart]) -> list[Stage]:
    return [*back, *(part.stage for part in again)]


def _account(
    database: Database,
    table: Table,
    before: int,
    back: Mapping[Stage, RestorePart],
    changes: Sequence[RestorePart],
    effects: Sequence[Effect],
) -> Line:
    """The line of one table: rows count as restored only if they are there with the same bytes."""
    mine = [part for part in back.values() if part.table is table]
    again = [part for part in changes if part.table is table]
    inserted = sum(_count_whole(database, part) for part in mine)
    attached = sum(_count_attached(database, part) for part in again)
    parentless = 0
    for part in (*mine, *again):
        for reference, rows in _find_parentless(database, part.stage, ()):
            parentless += max(0, rows - (part.stage.portion.orphans or {}).get(str(reference), 0))
    after = database.count_rows(table)
    by_triggers = after - before - inserted
    return Line(
        table,
        before,
        after,
        inserted_by_triggers=max(0, by_triggers) if _may_insert(database, effects, table) else 0,
        dangling=parentless,
        to_restore=sum(part.to_do - part.again for part in (*mine, *again)),
        inserted=inserted,
        reattached=attached - sum(part.again for part in again),
        differing=_find_differing(database, mine)
        if inserted != sum(part.to_do for part in mine)
        else (),
    )


def _find_differing(database: Database, parts: Sequence[RestorePart]) -> tuple[str, ...]:
    found = dict.fromkeys(name for part in parts for name in database.find_differing(part.stage))
    return tuple(found)


def _may_insert(database: Database, effects: Sequence[Effect], table: Table) -> bool:
    """Where an engine does not foresee what triggers do, its own count by table tells it."""
    foreseen = any(effect.table is table and effect.verb == "insert" for effect in effects)
    return foreseen or database.find_changes().tables is not None


def _count_whole(database: Database, part: RestorePart) -> int:
    """Without a key all rows that look like an archived one are counted, those that stayed
    included."""
    whole = database.count_whole(part.stage)
    if part.stage.key:
        return whole
    alike = part.stage.portion.alike
    assert alike is not None
    return whole - (alike - part.standing.rows)


def _count_attached(database: Database, part: RestorePart) -> int:
    """Detached rows that point at what they pointed at, unless something else of a row changed with
    that."""
    after = database.stand(part.stage)
    altered = part.standing.whole - database.count_whole(part.stage) if part.stage.key else 0
    return after.same - part.standing.same - max(0, altered)
