"""What happens when surplus rows go: what depends on them moves to the kept rows, unless that
cannot be.

A moved row may be a duplicate itself where it arrives. Where the person lets such rows be dropped,
they are surplus rows in turn, and what depends on them moves on to the rows that they collided
with, until nothing collides any more.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from yeldro.core.database.connection import Database
from yeldro.core.duplicates.movers import find_movers, find_pointing, is_movable
from yeldro.core.duplicates.request import DuplicatesRequest
from yeldro.core.model.action import Action
from yeldro.core.model.fact import fact
from yeldro.core.model.key_set import Mark, StoredKeys, find_carried, stored
from yeldro.core.model.schema import Reference, Table, TableName, Unique
from yeldro.core.reach.new_values import find_new
from yeldro.core.reach.reach import Change, Collision, Stop
from yeldro.core.reach.search import Search
from yeldro.errors import Refused, UsageError

# Pairs are shown to a person, who looks at a few.
_PAIRS = 10


class MovingSearch(Search):
    """A search in which what depends on rows that go is moved to those that take their place.

    `images` holds the rows of each table that get new values, `collided` the rows that are
    duplicates where they arrive, by table and unique columns. `none_gone` are empty sets, for
    tables that lose no rows so far.
    """

    filled: StoredKeys | None = None

    def __init__(self, database: Database, request: DuplicatesRequest) -> None:
        super().__init__(database, request.dependents, store=True)
        self.movers = find_movers(database.schema, request.table, request.dependents)
        self.images: dict[TableName, StoredKeys] = {}
        self.collided: dict[tuple[TableName, Unique], tuple[StoredKeys, int]] = {}
        self.none_gone: dict[TableName, StoredKeys] = {}
        self.changes: list[Change] = []

    def find_moves(self) -> list[Change]:
        """Point references at the rows that stay, until nothing collides that was not known to."""
        if not self.counts[self.root.name]:
            return []
        # Each dropped row may be what others were to point at, so all of it is worked out again.
        grew = True
        while grew:
            grew = False
            for name, references in self.movers.items():
                into = [
                    reference for reference in references if self.counts.get(reference.parent.name)
                ]
                if into and self._can_move(into):
                    self._point(self.schema.by_name[name], into)
                    grew |= self._drop_collisions(self.schema.by_name[name], into)
        self.changes = [
            change for name in self.images if (change := self._change(self.schema.by_name[name]))
        ]
        self.via.update(reference for change in self.changes for reference in change.via)
        return self.changes

    def _can_move(self, references: Sequence[Reference]) -> bool:
        """Whether rows of a table can be moved. One whose rows cannot must have none that would."""
        table = references[0].child
        # Movable rows can be told apart and changed one by one.
        if is_movable(table):
            return True
        if any(
            self.database.count_referencing(reference, self.sets[reference.parent.name], None)
            for reference in references
        ):
            if table.refusal:
                raise Refused(f"Rows of {table.label} would be moved, but {table.refusal}.")
            # The database would do with them what their reference says, and nobody would know.
            raise UsageError(
                f"Rows of {table.label} would be moved, but nothing tells them apart.",
                "Give it a key without NULLs.",
            )
        return False

    def _point(self, table: Table, references: Sequence[Reference]) -> None:
        """Work out afresh what the references of a table's rows will be."""
        if table.name not in self.images:
            self.images[table.name] = self.database.make_key_set(
                table, find_new(table, find_pointing(self.movers[table.name]))
            )
        images = self.images[table.name]
        # Afresh: a row may have got another target since, or have gone itself.
        self.database.replacing.empty(images)
        gone = self.sets.get(table.name)
        for reference in references:
            parents = self.sets[reference.parent.name]
            self.database.pull(
                reference, parents, images, round=Mark.DETACHED, without=[gone] if gone else []
            )
        for reference in references:
            filled = self.filled if reference.parent is self.root else None
            self.database.replacing.repoint(
                reference, self.sets[reference.parent.name], images, filled
            )

    def _drop_collisions(self, table: Table, references: Sequence[Reference]) -> bool:
        """Let rows that collide be surplus rows too, where they may be dropped. Returns whether
        there are new ones."""
        grew = False
        for unique in table.unique_with(find_pointing(references)):
            gone = self._find_gone(table)
            if self.rules.drops(table):
                grew |= self._drop(table, unique, gone)
            else:
                self._note_collisions(table, unique, gone)
        return grew

    def _find_gone(self, table: Table) -> StoredKeys:
        """The rows of a table that go, an empty set where none do so far."""
        gone = self.sets.get(table.name)
        if gone is not None:
            return stored(gone)
        if table.name not in self.none_gone:
            carried = find_carried(self.schema, table)
            self.none_gone[table.name] = self.database.make_key_set(table, carried)
        gone = self.none_gone[table.name]
        if self.rules.drops(table):
            self.sets[table.name], self.counts[table.name] = gone, 0
        return gone

    def _note_collisions(self, table: Table, unique: Unique, gone: StoredKeys) -> None:
        known, _ = self.collided.get((table.name, unique), (None, 0))
        into = known or self.database.make_key_set(table, find_carried(self.schema, table))
        self.database.replacing.empty(into)
        rows = self.database.replacing.find_collisions(self.images[table.name], gone, unique, into)
        self.collided[table.name, unique] = into, rows

    def _drop(self, table: Table, unique: Unique, gone: StoredKeys) -> bool:
        images = self.images[table.name]
        rows = self.database.replacing.find_collisions(images, gone, unique, gone)
        if not rows:
            return False
        self.counts[table.name] += rows
        _, before = self.collided.get((table.name, unique), (gone, 0))
        self.collided[table.name, unique] = gone, before + rows
        # A row that was to take the place of others may have gone itself by now.
        while self.database.replacing.pass_on(gone):
            pass
        self.database.replacing.remove(images, gone)
        return True

    def _change(self, table: Table) -> Change | None:
        images = self.images[table.name]
        marks = self.database.replacing.count_images(images)
        rows = sum(marks.values())
        if not rows:
            return None
        waiting = marks.get(Mark.WAITING, 0)
        via = [
            reference
            for reference in self.movers[table.name]
            if self._moves(reference, images, waiting)
        ]
        changed = {name for reference in via for name in reference.columns}
        # The column is emptied first where its new value does not exist yet.
        held_back = [reference for reference in via if waiting and self._may_wait(reference)]
        waits = {name for one in held_back for name in one.nullable_columns}
        columns = tuple(name for name in table.column_names if name in changed)
        return Change(
            Action.MOVE,
            images,
            columns,
            rows,
            tuple(via),
            marks.get(Mark.DETACHED, 0),
            waiting,
            tuple(name for name in columns if name in waits),
        )

    def _moves(self, reference: Reference, images: StoredKeys, waiting: int) -> bool:
        """Whether rows get another value in a column of this reference."""
        if not self.counts.get(reference.parent.name):
            return False
        if waiting and self._may_wait(reference):
            return True
        return bool(self.database.replacing.count_shifted(images, reference.columns))

    def _may_wait(self, reference: Reference) -> bool:
        return self.filled is not None and bool(set(reference.referred) & set(self.filled.new))

    def find_collisions(self) -> Iterator[Collision]:
        for (name, unique), (keys, rows) in self.collided.items():
            if rows:
                pairs = tuple(self.database.replacing.list_pairs(keys, _PAIRS))
                table = self.schema.by_name[name]
                yield Collision(table, unique.columns, rows, pairs, self.rules.drops(table))

    def find_move_stops(self) -> Iterator[Stop]:
        for change in self.changes:
            yield from self._immovable(change)
        for (name, unique), (_, rows) in self.collided.items():
            table = self.schema.by_name[name]
            if rows and not self.rules.drops(table):
                via = next(
                    reference
                    for reference in self.movers[name]
                    if set(reference.columns) & unique.uses
                )
                reason = fact("reason.moved-alike", columns=unique.columns)
                yield Stop(table, rows, via, reason, fact("lift.delete", table=table))

    def _immovable(self, change: Change) -> Iterator[Stop]:
        table, images = change.table, change.keys
        looped = self.database.replacing.count_images(images).get(Mark.LOOPED, 0)
        for reference in self.movers[table.name]:
            gone = self.sets.get(reference.parent.name)
            if not gone or not self.counts[reference.parent.name]:
                continue
            if rows := self.database.replacing.count_still(reference, gone, images):
                reason = fact("reason.null-in-kept", columns=reference.referred)
                yield Stop(table, rows, reference, reason, fact("lift.fill"))
            if reference in change.via:
                yield from self._looping(change, reference, looped)
                yield from self._unwaiting(change, reference)
                yield from self._shared(change, reference)
        yield from self._pointed_at(change)

    def _looping(self, change: Change, reference: Reference, looped: int) -> Iterator[Stop]:
        """Rows that would point at themselves."""
        if not reference.is_self:
            return
        if rows := looped or self.database.replacing.count_loops(reference, [change.keys]):
            table = change.table
            lift = None if looped else fact("lift.detach", table=table)
            yield Stop(table, rows, reference, fact("reason.moved-loop"), lift)

    def _unwaiting(self, change: Change, reference: Reference) -> Iterator[Stop]:
        """Columns that cannot be empty until what they will point at is there, or cannot be set."""
        table = change.table
        if change.waiting and self._may_wait(reference) and not reference.nullable_columns:
            reason = fact("reason.filled-later")
            yield Stop(table, change.waiting, reference, reason, None)
        if any(table.column(name).generated for name in reference.columns):
            yield Stop(table, change.rows, reference, fact("reason.generated"), None)

    def _pointed_at(self, change: Change) -> Iterator[Stop]:
        """Rows that point at a column which would change."""
        reason = fact("reason.points-at-changed", table=change.table)
        for other in self.schema.incoming(change.table):
            if not set(other.referred) & set(change.columns) or other.broken:
                continue
            gone = self.sets.get(other.child.name)
            if rows := self.database.count_referencing(other, change.keys, gone):
                yield Stop(other.child, rows, other, reason, None)

    def _shared(self, change: Change, reference: Reference) -> Iterator[Stop]:
        """A column that another reference goes by too must keep its value."""
        for other in self.schema.outgoing(change.table):
            shared = [name for name in other.columns if name in reference.columns]
            if not shared or other is reference or other.broken:
                continue
            if rows := self.database.replacing.count_shifted(change.keys, shared):
                reason = fact("reason.changes-for-it-too", columns=shared)
                yield Stop(change.table, rows, other, reason, None)
