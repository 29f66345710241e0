"""What a restoration would do: how the archived rows stand against those that are there."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Mapping, Sequence

from msgspec import Struct, field
from msgspec.structs import replace

from yeldro.core.database.archive_format import Portion, Stage, Standing
from yeldro.core.database.connection import Database
from yeldro.core.database.phase import Phase
from yeldro.core.model.action import Action
from yeldro.core.model.fact import Fact, fact
from yeldro.core.model.graph import find_components
from yeldro.core.model.schema import Reference, Table, overlaps
from yeldro.core.restore.traces import Traces, find_proving, find_traces


class RestorePart(Struct, frozen=True, eq=False):
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
        """Whether its rows stayed, and were detached, moved, filled or cleared."""
        return self.stage.portion.action is not Action.DELETE

    @property
    def to_do(self) -> int:
        """How many rows get their old selves back; at most, where it waits."""
        if self.waits and self.is_change:
            return self.standing.rows - self.standing.same
        return self.standing.back if self.is_change else self.standing.absent


class RestorePlan(Struct, frozen=True, eq=False):
    """What a restoration would do. `parts` stand in the order in which it goes: the last step of
    the run first, and within a step parents first, detachments last. `refusals` block it."""

    database: str
    run: str
    parts: tuple[RestorePart, ...]
    notes: tuple[Fact, ...] = ()
    refusals: tuple[Fact, ...] = ()
    in_batches: bool = False
    """Whether the steps are the batches of a run."""

    @property
    def rows(self) -> int:
        return sum(part.to_do - part.again for part in self.parts)

    @property
    def traces(self) -> Traces:
        """What of the run shows."""
        return find_traces([(part.stage.portion, part.standing) for part in self._proving])

    @property
    def wiped(self) -> int:
        """How many of these traces are not there afterwards."""
        return sum(part.to_do for part in self._proving)

    @property
    def _proving(self) -> list[RestorePart]:
        known = find_proving([part.stage.portion for part in self.parts])
        return [part for part in self.parts if part.stage.portion in known]

    def figures(self) -> list[tuple[int, Standing]]:
        return [(part.stage.portion.number, part.standing) for part in self.parts]


class NotRestorable(Exception):
    """What a part cannot be restored for, known only in the middle of a restore."""

    def __init__(self, found: Fact) -> None:
        super().__init__(found.kind)
        self.found = found


def find_entangled(portions: Sequence[Portion]) -> str:
    """A table of which several steps of a run may have touched the same rows, "" where there is
    none. Each of them is only known when those after it are undone."""
    for one in portions:
        # A deleted row that can be told apart for good was touched by no other step.
        if one.table.lasting_keys and one.action is Action.DELETE:
            continue
        for other in portions:
            if other.table is one.table and other.step != one.step:
                return one.table.label
    return ""


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
        mine = [stage for stage in stages if stage.portion.step == step]
        parts += list(look_at_step(database, mine, tuple(parts)))
    waiting = Counter[Table]()
    for part in parts:
        waiting[part.table] += part.standing.rows if part.waits else 0
    notes = [fact("restore.waits", rows=rows, table=table) for table, rows in (+waiting).items()]
    notes += [note for part in parts for note in _notes(part, keep_differing)]
    notes += _find_altered(database, parts)
    refusals = [refusal for part in parts for refusal in find_refusals(part, keep_differing)]
    if not no_rollback:
        reasons = dict.fromkeys(_find_lasting(database, parts))
        refusals += [fact("refused.lasting", what=reason) for reason in reasons]
    return RestorePlan(database.title, run, tuple(parts), tuple(notes), tuple(refusals))


def _find_lasting(database: Database, parts: Sequence[RestorePart]) -> Iterator[str]:
    for part in parts:
        if part.to_do:
            changed = part.stage.portion.changed if part.is_change else None
            for reason in database.find_lasting(part.table, changed, "insert"):
                yield f"{reason[0].upper()}{reason[1:]}"


def look_at_step(
    database: Database, stages: Sequence[Stage], later: Sequence[RestorePart] = ()
) -> Iterator[RestorePart]:
    """The parts of one step of the run. Those of `later` steps will be undone before them."""
    back = [stage for stage in stages if stage.portion.action is Action.DELETE]
    changes = [stage for stage in stages if stage not in back]
    # What was cleared has its value again before anything points at it.
    cleared = [stage for stage in changes if stage.portion.action is Action.CLEAR]
    parents = [*back, *cleared, *(part.stage for part in later if not part.is_change)]
    touched = {part.table for part in later}
    for group in in_order(database, back):
        for stage in group:
            yield _look_at(database, stage, parents, touched)
    for place, stage in enumerate(changes):
        part = _look_at(database, stage, parents, touched)
        if not part.waits:
            beside, again = _count_beside(database, stage, changes[:place])
            part = replace(part, beside=beside, again=again)
        yield part


def _look_at(
    database: Database, stage: Stage, parents: Sequence[Stage], touched: set[Table]
) -> RestorePart:
    """One part. `touched` are tables of which later steps changed rows."""
    database.announce(Phase.COMPARING, stage.table.label, stage.portion.rows)
    standing = database.archive.stand(stage)
    is_change = stage.portion.action is not Action.DELETE
    if (is_change or not stage.key) and stage.table in touched:
        return RestorePart(stage, standing, waits=True)
    comes_back = standing.back if is_change else standing.absent
    parentless = dict(find_parentless(database, stage, parents)) if comes_back else {}
    return RestorePart(stage, standing, parentless)


def _count_beside(database: Database, stage: Stage, earlier: Sequence[Stage]) -> tuple[int, int]:
    """How many rows an earlier part has for the same action too, and of those to be restored."""
    known = [other for other in earlier if _is_same_action(other, stage)]
    return database.archive.count_beside(stage, known) if known else (0, 0)


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
    """Parents before what references them; tables that reference each other in a cycle stand
    together."""
    by_table = {stage.table.name: stage for stage in stages}
    edges = [(reference.parent.name, reference.child.name) for reference in database.schema.acting]
    return [[by_table[name] for name in group] for group in find_components(list(by_table), edges)]


def find_parentless(
    database: Database, stage: Stage, stages: Sequence[Stage]
) -> Iterator[tuple[Reference, int]]:
    """References of the staged rows that would point at nothing, beyond those that did so before
    the run."""
    for reference in find_links(database, stage):
        if reference.broken or not set(reference.columns) <= set(stage.portion.columns):
            continue
        parents = [other for other in stages if overlaps(other.table, reference.parent)]
        referred = set(reference.referred)
        kept = [parent for parent in parents if referred <= set(parent.portion.columns)]
        if rows := database.archive.count_parentless(reference, stage, kept):
            yield reference, rows


def _find_altered(database: Database, parts: Sequence[RestorePart]) -> Iterator[Fact]:
    """Triggers may have changed more of a row than the run did, and so may anybody since."""
    changes = [part for part in parts if part.is_change and part.standing.back and not part.waits]
    for part in changes:
        same = [other.stage.portion for other in changes if other.table is part.table]
        known = {name for portion in same for name in portion.changed}
        columns = [
            name for name in database.archive.find_differing(part.stage) if name not in known
        ]
        if columns:
            yield fact("restore.altered", table=part.table, columns=columns)


def _notes(part: RestorePart, keep_differing: bool) -> Iterator[Fact]:
    standing, table = part.standing, part.table
    if part.waits:
        return
    if part.is_change:
        if standing.differing:
            yield fact("restore.not-as-left", rows=standing.differing, table=table)
        if standing.absent:
            yield fact("restore.gone", rows=standing.absent, table=table)
    elif standing.differing and keep_differing:
        yield fact("restore.other-values", rows=standing.differing, table=table)
    for name in _find_left_out(part):
        yield fact("restore.left-out", table=table, column=name)


def find_refusals(part: RestorePart, keep_differing: bool) -> Iterator[Fact]:
    """Why a part cannot be restored."""
    if part.waits:
        return
    table = part.table
    differing = _count_differing(part)
    if differing and not part.stage.key:
        yield fact("restore.no-key", table=table)
    elif differing and not keep_differing:
        yield fact("restore.taken", rows=differing, table=table)
    known = part.stage.portion.orphans or {}
    for reference, rows in part.parentless.items():
        if rows > known.get(str(reference), 0):
            yield fact(
                "restore.parent-gone",
                rows=rows,
                table=table,
                parent=reference.parent,
                reference=str(reference),
            )
    for name in _find_left_out(part):
        column = table.column(name)
        if not (column.nullable or column.default or column.generated):
            yield fact("restore.needs-value", table=table, column=name)


def _count_differing(part: RestorePart) -> int:
    """Rows that are there and are not what the run left, or archived."""
    standing = part.standing
    if part.is_change:
        return 0 if part.stage.key else standing.rows - standing.same - standing.back
    return standing.differing if part.stage.key else standing.there - standing.same


def _find_left_out(part: RestorePart) -> tuple[str, ...]:
    """The columns of rows to come back that the archive does not hold."""
    comes_back = part.standing.absent and not part.is_change
    return part.stage.portion.left_out if comes_back else ()
