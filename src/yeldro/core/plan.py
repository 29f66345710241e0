"""The ordered steps of a run, each with its cause and the count that it must reach. Nothing is sent here."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from enum import StrEnum

from yeldro.core.database import KeySet
from yeldro.core.reach import Reach
from yeldro.core.schema import Reference, Table


class Verb(StrEnum):
    UNLINK = "unlink"
    DETACH = "detach"
    DELETE = "delete"
    TRUNCATE = "truncate"


@dataclass(frozen=True, slots=True, eq=False)
class Step:
    """One statement: what it does to which frozen rows. `rows` is how many it must touch, None where any is right.

    UNLINK takes away a reference among rows that go anyway, so that their order is free;
    DETACH clears one of rows that stay.
    """

    verb: Verb
    keys: KeySet
    rows: int | None
    reference: Reference | None = None
    columns: tuple[str, ...] = ()
    to_default: bool = False

    @property
    def table(self) -> Table:
        return self.keys.table


@dataclass(frozen=True, slots=True, eq=False)
class Plan:
    """`scanned` are the references that get an index while the steps are done."""

    reach: Reach
    steps: tuple[Step, ...]
    scanned: tuple[Reference, ...] = ()


def make_plan(reach: Reach, scanned: Sequence[Reference] = ()) -> Plan:
    """Circles are opened first, rows that stay are detached next, then rows go, children before their parents."""
    return Plan(reach, tuple(_steps(reach)), tuple(scanned))


def _steps(reach: Reach) -> Iterator[Step]:
    sets = {keys.table.name: keys for keys, _ in reach.deleted}
    for link in reach.links:
        yield Step(Verb.UNLINK, sets[link.child.name], None, link, link.nullable_columns or link.columns)
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
    for keys, rows in reach.deleted:
        yield Step(Verb.TRUNCATE if keys.whole else Verb.DELETE, keys, None if keys.whole else rows)
