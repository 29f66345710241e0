"""The reach: the matched rows and everything that depends on them, per table, with what happens to
each row."""

from __future__ import annotations

from msgspec import Struct

from yeldro.core.database.abilities import Row
from yeldro.core.model.action import Action
from yeldro.core.model.fact import Fact, fact
from yeldro.core.model.key_set import KeySet, StoredKeys
from yeldro.core.model.schema import Reference, Table
from yeldro.core.reach.rules import Treatment
from yeldro.core.selection.selection import Selection


class Detachment(Struct, frozen=True, eq=False):
    """Rows whose reference is taken away: they stay, but what they point at goes."""

    reference: Reference
    treatment: Treatment
    keys: StoredKeys
    rows: int


class Change(Struct, frozen=True, eq=False):
    """Rows that stay and get new values, which stand beside their keys: those that are moved,
    filled or cleared.

    `columns` are those that change. Of the `rows`, `detached` are only taken off: they would have
    pointed at themselves. `waiting` rows leave the columns `waits` empty until the rows that go are
    gone, and what they will point at is filled in.
    """

    action: Action
    keys: StoredKeys
    columns: tuple[str, ...]
    rows: int
    via: tuple[Reference, ...] = ()
    detached: int = 0
    waiting: int = 0
    waits: tuple[str, ...] = ()
    to: str = ""
    """What cleared columns hold then: null, blank or default."""

    @property
    def table(self) -> Table:
        return self.keys.table


class Collision(Struct, frozen=True, eq=False):
    """Moved rows of `table` that would have the same values in unique `columns` as another row,
    with some of the pairs: what tells the one that collides apart, and the other. They are
    `dropped`, or else block the run."""

    table: Table
    columns: tuple[str, ...]
    rows: int
    pairs: tuple[tuple[Row, Row], ...]
    dropped: bool


class Part(Struct, frozen=True, eq=False):
    """All rows of one table that one action touches, and the references that brought them in."""

    table: Table
    action: Action
    rows: int
    via: tuple[Reference, ...]


class Stop(Struct, frozen=True, eq=False):
    """Rows that block the run, through a reference or by themselves, and why. `lift` is what would
    allow it, None where nothing would."""

    table: Table
    rows: int
    via: Reference | None
    reason: Fact
    lift: Fact | None


class Reach(Struct, frozen=True, eq=False):
    """Everything that a deletion touches, or a removal of duplicates, or clearing.

    `deleted` holds a key set for each table that loses rows, children first; `links` are the
    references within the deleted rows that are taken away first, because rows reference each other
    in a cycle or within one table; `late` are those that cannot be, and must be checked at the
    end. `parts` stand in the order in which they are done. `cleared` are the matched rows where
    these stay and are cleared. `unasked`: whether the rows match is only asked while they go.
    """

    selection: Selection
    matched: int
    table_rows: int
    deleted: tuple[tuple[KeySet, int], ...]
    detached: tuple[Detachment, ...]
    links: tuple[Reference, ...]
    late: tuple[Reference, ...]
    parts: tuple[Part, ...]
    stops: tuple[Stop, ...]
    changes: tuple[Change, ...] = ()
    collisions: tuple[Collision, ...] = ()
    cleared: KeySet | None = None
    unasked: bool = False

    @property
    def rows(self) -> int:
        """Rows of all parts together, a row counting once an action."""
        return sum(part.rows for part in self.parts)

    @property
    def touched(self) -> int:
        """How many of the matched rows are touched. Some may be clear already."""
        return sum(one.rows for one in self.changes) if self.cleared else self.matched

    @property
    def key_sets(self) -> tuple[KeySet, ...]:
        return (
            *(keys for keys, _ in self.deleted),
            *(detachment.keys for detachment in self.detached),
        )


def describe_stop(stop: Stop, rows: int, *, clears: bool = False) -> Fact:
    """Which rows block a delete, or clearing, how many, and why."""
    if stop.via is None:
        return fact("stop.own", rows=rows, table=stop.table, reason=stop.reason)
    kind = "stop.clear" if clears else "stop"
    return fact(kind, rows=rows, table=stop.table, via=str(stop.via), reason=stop.reason)


def root_keys(reach: Reach) -> KeySet:
    """The matched rows."""
    if reach.cleared:
        return reach.cleared
    return next(keys for keys, _ in reach.deleted if keys.table is reach.selection.table)
