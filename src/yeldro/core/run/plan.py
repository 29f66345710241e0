"""The ordered steps of a run, each with its cause and the count that it must reach. Nothing is sent
here."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from enum import StrEnum
from itertools import pairwise

from msgspec import Struct

from yeldro.core.model.action import Action
from yeldro.core.model.graph import find_components
from yeldro.core.model.key_set import KeySet, WholeTable
from yeldro.core.model.schema import Reference, Table
from yeldro.core.reach.reach import Change, Reach


class Verb(StrEnum):
    UNLINK = "unlink"
    DETACH = "detach"
    MOVE = "move"
    FILL = "fill"
    CLEAR = "clear"
    ARRIVE = "arrive"
    DELETE = "delete"
    TRUNCATE = "truncate"


class Step(Struct, frozen=True, eq=False):
    """One statement: what it does to which frozen rows. `rows` is how many it must touch, None
    where any is right.

    UNLINK takes away a reference among rows that go anyway, so that their order is free; DETACH
    takes one off rows that stay. MOVE points references at rows that stay, FILL fills these, CLEAR
    removes what they hold; rows that waited for that ARRIVE afterwards, `waits` being the columns
    that were empty meanwhile.
    """

    verb: Verb
    keys: KeySet
    rows: int | None
    reference: Reference | None = None
    columns: tuple[str, ...] = ()
    to_default: bool = False
    waits: tuple[str, ...] = ()

    @property
    def table(self) -> Table:
        return self.keys.table


class Plan(Struct, frozen=True, eq=False):
    """`scanned` are the references that get an index while the steps are done."""

    reach: Reach
    steps: tuple[Step, ...]
    scanned: tuple[Reference, ...] = ()


def make_plan(reach: Reach, scanned: Sequence[Reference] = ()) -> Plan:
    """Cycles are opened first, rows that stay are detached next, then rows go, children before
    their parents.

    Rows are moved before what they point at goes, and after the rows of their own table that are in
    their place have gone.
    """
    return Plan(reach, tuple(_steps(reach)), tuple(scanned))


def _steps(reach: Reach) -> Iterator[Step]:
    sets = {keys.table.name: keys for keys, _ in reach.deleted}
    # First, because as long as rows hold each other there is no order at all.
    for link in reach.links:
        yield Step(
            Verb.UNLINK, sets[link.child.name], None, link, link.nullable_columns or link.columns
        )
    # Rows that stay let go of what they point at before that goes.
    for detachment in reach.detached:
        treatment = detachment.treatment
        yield Step(
            Verb.DETACH,
            detachment.keys,
            detachment.rows,
            detachment.reference,
            treatment.columns,
            treatment.to_default,
        )
    gone = [
        Step(
            Verb.TRUNCATE if isinstance(keys, WholeTable) else Verb.DELETE,
            keys,
            None if isinstance(keys, WholeTable) else rows,
        )
        for keys, rows in reach.deleted
    ]
    moves = [change for change in reach.changes if change.action is Action.MOVE]
    yield from _merge(gone, moves)
    for change in reach.changes:
        # Only now: a unique value can move over once the row that had it is gone.
        if change.action in (Action.FILL, Action.CLEAR):
            verb = Verb(change.action)
            yield Step(verb, change.keys, change.rows, columns=change.columns)
    for change in moves:
        # Last: what they point at has its value only since it was filled.
        if change.waiting:
            yield Step(Verb.ARRIVE, change.keys, change.waiting, columns=change.waits)


def _merge(gone: Sequence[Step], moves: Sequence[Change]) -> list[Step]:
    """Deletions in their order, with the moves among them. Where a table's rows move within it,
    they move first."""
    steps = {("delete", step.table.name): step for step in gone}
    for change in moves:
        steps["move", change.table.name] = Step(
            Verb.MOVE, change.keys, change.rows, columns=change.columns, waits=change.waits
        )
    names = [step.table.name for step in gone]
    # Deletions keep the order of the reach. Moves are put between them as late as possible.
    edges = [(("delete", first), ("delete", second)) for first, second in pairwise(names)]
    for change in moves:
        own = change.table.name
        # A row must point elsewhere before what it points at goes,
        edges += [(("move", own), ("delete", reference.parent.name)) for reference in change.via]
        # but where it arrives, the row in its place must be gone first.
        edges += [(("delete", own), ("move", own))] * (
            own not in [reference.parent.name for reference in change.via]
        )
    found = find_components(list(steps), edges)
    return [
        steps[node] for part in found for node in sorted(part, key=lambda node: node[0] == "delete")
    ]
