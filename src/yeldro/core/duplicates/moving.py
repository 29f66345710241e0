"""What happens when surplus rows go: what hangs on them moves to the kept rows, unless that cannot
be.

A moved row may be a duplicate itself where it arrives. Where the person lets such rows be dropped,
they are surplus rows in turn, and what hangs on them moves on to the rows that they collided with,
until nothing collides any more."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from yeldro.core.database.connection import Database, KeySet, Mark
from yeldro.core.duplicates.movers import find_movers, find_new, is_movable, unique_with
from yeldro.core.duplicates.request import DuplicatesRequest
from yeldro.core.model.key_set import find_carried
from yeldro.core.model.schema import Reference, Table, TableName, Unique
from yeldro.core.reach.reach import Change, Collision, Stop
from yeldro.core.reach.rules import Action
from yeldro.core.reach.search import Search

_PAIRS = 10


class MovingSearch(Search):
    """A search in which what hangs on rows that go is moved to those that take their place.

    `images` holds the rows of each table that get new values, `collided` the rows that are
    duplicates where they arrive, by table and unique columns. `none_gone` are empty sets, for
    tables that lose no rows so far.
    """

    filled: KeySet | None = None

    def __init__(self, database: Database, request: DuplicatesRequest) -> None:
        super().__init__(database, request.dependents, store=True)
        self.movers = find_movers(database.schema, request.table, request.dependents)
        self.images: dict[TableName, KeySet] = {}
        self.collided: dict[tuple[TableName, Unique], tuple[KeySet, int]] = {}
        self.none_gone: dict[TableName, KeySet] = {}
        self.changes: list[Change] = []

    def find_moves(self) -> list[Change]:
        """Point references at the rows that stay, until nothing collides that was not known to."""
        if not self.counts[self.root.name]:
            return []
        grew = True
        while grew:
            grew = False
            for name, references in self.movers.items():
                into = [one for one in references if self.counts.get(one.parent.name)]
                if into and self._can_move(into):
                    self._point(self.schema.by_name[name], into)
                    grew |= self._drop_collisions(self.schema.by_name[name], into)
        self.changes = [
            change for name in self.images if (change := self._change(self.schema.by_name[name]))
        ]
        self.via.update(one for change in self.changes for one in change.via)
        return self.changes

    def _can_move(self, references: Sequence[Reference]) -> bool:
        """Whether rows of a table can be moved. One whose rows cannot must have none that would."""
        table = references[0].child
        if is_movable(table):
            return True
        if any(
            self.database.count_referencing(one, self.sets[one.parent.name], None)
            for one in references
        ):
            self._make_key_set(table)  # which says why it cannot be done
        return False

    def _point(self, table: Table, references: Sequence[Reference]) -> None:
        """Work out afresh what the references of a table's rows will be."""
        if table.name not in self.images:
            self.images[table.name] = self.database.make_key_set(
                table, find_new(table, self.movers[table.name])
            )
        images = self.images[table.name]
        self.database.clear(images)
        gone = self.sets.get(table.name)
        for reference in references:
            parents = self.sets[reference.parent.name]
            self.database.pull(
                reference, parents, images, round=Mark.DETACHED, without=[gone] if gone else []
            )
        for reference in references:
            filled = self.filled if reference.parent is self.root else None
            self.database.repoint(reference, self.sets[reference.parent.name], images, filled)

    def _drop_collisions(self, table: Table, references: Sequence[Reference]) -> bool:
        """Let rows that collide be surplus rows too, where they may be dropped. Returns whether
        there are new ones."""
        images, grew = self.images[table.name], False
        changing = {name for reference in references for name in reference.columns}
        for unique in unique_with(table, changing):
            gone = self.sets.get(table.name)
            paired = find_carried(self.schema, table)
            if gone is None:
                if table.name not in self.none_gone:
                    self.none_gone[table.name] = self.database.make_key_set(table, paired)
                gone = self.none_gone[table.name]
                if self.rules.drops(table):
                    self.sets[table.name], self.counts[table.name] = gone, 0
            if not self.rules.drops(table):
                known, _ = self.collided.get((table.name, unique), (None, 0))
                into = known or self.database.make_key_set(table, paired)
                self.database.clear(into)
                self.collided[table.name, unique] = (
                    into,
                    self.database.find_collisions(images, gone, unique, into),
                )
            elif rows := self.database.find_collisions(images, gone, unique, gone):
                self.counts[table.name] += rows
                _, before = self.collided.get((table.name, unique), (gone, 0))
                self.collided[table.name, unique] = gone, before + rows
                while self.database.pass_on(gone):
                    pass
                self.database.remove(images, gone)
                grew = True
        return grew

    def _change(self, table: Table) -> Change | None:
        images = self.images[table.name]
        marks = self.database.count_images(images)
        rows = sum(marks.values())
        if not rows:
            return None
        waiting = marks.get(Mark.WAITING, 0)
        pointing = [one for one in self.movers[table.name] if self.counts.get(one.parent.name)]
        via = tuple(
            one
            for one in pointing
            if (waiting and self._may_wait(one)) or self.database.count_shifted(images, one.columns)
        )
        changed = {name for one in via for name in one.columns}
        columns = tuple(name for name in table.column_names if name in changed)
        waits = (
            {name for one in via if self._may_wait(one) for name in one.nullable_columns}
            if waiting
            else set()
        )
        return Change(
            Action.MOVE,
            images,
            columns,
            rows,
            via,
            marks.get(Mark.DETACHED, 0),
            waiting,
            tuple(name for name in columns if name in waits),
        )

    def _may_wait(self, reference: Reference) -> bool:
        return self.filled is not None and bool(set(reference.referred) & set(self.filled.new))

    def find_collisions(self) -> Iterator[Collision]:
        for (name, unique), (keys, rows) in self.collided.items():
            if rows:
                pairs = tuple(self.database.list_pairs(keys, _PAIRS))
                table = self.schema.by_name[name]
                yield Collision(table, unique.columns, rows, pairs, self.rules.drops(table))

    def find_move_stops(self) -> Iterator[Stop]:
        for change in self.changes:
            yield from self._immovable(change)
        for (name, unique), (_, rows) in self.collided.items():
            table = self.schema.by_name[name]
            if rows and not self.rules.drops(table):
                via = next(one for one in self.movers[name] if set(one.columns) & unique.uses)
                reason = (
                    f"moved, they would have the same {', '.join(unique.columns)} as another row"
                )
                yield Stop(table, rows, via, reason, f"--dependents {table.label}=delete")

    def _immovable(self, change: Change) -> Iterator[Stop]:
        table, images = change.table, change.keys
        looped = self.database.count_images(images).get(Mark.LOOPED, 0)
        for reference in self.movers[table.name]:
            gone = self.sets.get(reference.parent.name)
            if not gone or not self.counts[reference.parent.name]:
                continue
            if rows := self.database.count_still(reference, gone, images):
                reason = f"{', '.join(reference.referred)} is NULL in the kept row"
                yield Stop(table, rows, reference, reason, "--fill")
            if reference not in change.via:
                continue
            if reference.is_self and (
                rows := looped or self.database.count_loops(reference, [images])
            ):
                reason = "moved, it would make a loop"
                yield Stop(
                    table,
                    rows,
                    reference,
                    reason,
                    "" if looped else f"--dependents {table.label}=detach",
                )
            if change.waiting and self._may_wait(reference) and not reference.nullable_columns:
                reason = "what it points at is filled in later, and it may not be NULL until then"
                yield Stop(table, change.waiting, reference, reason, "")
            if any(table.column(name).generated for name in reference.columns):
                yield Stop(table, change.rows, reference, "its column is generated", "")
            yield from self._shared(change, reference)
        for other in self.schema.incoming(table):
            if not set(other.referred) & set(change.columns) or other.broken:
                continue
            if rows := self.database.count_referencing(
                other, images, self.sets.get(other.child.name)
            ):
                reason = f"it points at a column of {table.label} that would change"
                yield Stop(other.child, rows, other, reason, "")

    def _shared(self, change: Change, reference: Reference) -> Iterator[Stop]:
        """A column that another reference goes by too must keep its value."""
        for other in self.schema.outgoing(change.table):
            shared = [name for name in other.columns if name in reference.columns]
            if not shared or other is reference or other.broken:
                continue
            if rows := self.database.count_shifted(change.keys, shared):
                yield Stop(
                    change.table, rows, other, f"{', '.join(shared)} would change for it too", ""
                )
