"""What happens when surplus rows go: what hangs on them moves to the kept rows, unless that cannot
be.

A moved row may be a duplicate itself where it arrives. Where the person lets such rows be dropped,
they are surplus rows in turn, and what hangs on them moves on to the rows that they collided with,
until nothing collides any more.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from yeldro.core.database.connection import Database, KeySet, Mark
from yeldro.core.duplicates.groups import DuplicatesRequest, Filling
from yeldro.core.model.key_set import find_carried
from yeldro.core.model.schema import Reference, Schema, Table, TableName, Unique
from yeldro.core.reach.search import (
    Action,
    Change,
    Collision,
    Part,
    Reach,
    Rule,
    Rules,
    Search,
    Stop,
    find_order,
    tables_in_reach,
)
from yeldro.core.selection.grouping import Ignored, Ranking
from yeldro.errors import Refused, UsageError

_PAIRS = 10


def prepare_merging(database: Database, request: DuplicatesRequest) -> None:
    """Make what a search inside a read-only transaction will need."""
    schema, root, rules = database.schema, request.table, request.dependents
    if root.shares_identity:
        return
    if rules.default is not Rule.MOVE:
        database.prepare_key_sets(tables_in_reach(schema, root, rules, store=True))
    else:
        database.prepare_key_sets([root], find_carried(schema, root))
        database.prepare_key_sets(
            [r.child for r in schema.acting if rules.treatment(r).action is Action.DETACH]
        )
        for child, references in find_movers(schema, root, rules).items():
            table = schema.by_name[child]
            if not _is_movable(table):
                continue
            database.prepare_key_sets([table], find_new(table, references))
            # One for the rows that collide through each unique key, and one for those that go.
            unique = _unique_with(table, {name for one in references for name in one.columns})
            database.prepare_key_sets([table] * (len(unique) + 1), find_carried(schema, table))
    if request.filling:
        for columns in find_fillable(schema, root):
            database.prepare_key_sets([root], columns)
            database.prepare_key_sets(
                [root] * len(_unique_with(root, set(columns))), find_carried(schema, root)
            )


def _is_movable(table: Table) -> bool:
    return bool(table.identity) and not (table.shares_identity or table.refusal)


def check_request(database: Database, request: DuplicatesRequest) -> None:
    """UsageError or Refused for what cannot be done, whatever the rows are."""
    if request.filling and request.table.shares_identity:
        raise UsageError(
            f"Nothing tells the rows of {request.table.label} apart, so --fill cannot be used."
        )
    if request.unique_name:
        _check_unique(database, request)


def _check_unique(database: Database, request: DuplicatesRequest) -> None:
    """Refused where a unique index on what makes rows the same would not keep such duplicates
    out.
    """
    name, grouping, table = request.unique_name, request.grouping, request.table
    texts = [one.text for one in grouping.same]
    known = database.schema.tables if database.abilities.shared_index_names else (table,)
    lasting = "A unique index on {} would not keep {} out."
    if any(index.name.lower() == name.lower() for one in known for index in one.indexes):
        raise Refused(f"There is an index {name} already.", "Give --then-unique another name.")
    if grouping.selection.conditions:
        raise Refused("--then-unique goes without --where: the index would be on all rows.")
    if any(one.expression for one in grouping.same) and not database.abilities.indexes_expressions:
        raise Refused(
            "This engine has no indexes on expressions.",
            "Add a generated column for it, and put the index on that.",
        )
    if grouping.loose:
        raise Refused(
            lasting.format(", ".join(texts), "texts that differ in what is ignored"),
            _near_index(database, request),
        )
    open_ones = [
        one.text for one in grouping.same if one.expression or table.column(one.column).nullable
    ]
    if not grouping.nulls_differ and open_ones:
        tests = [
            part for text in open_ones for part in (f"({text} IS NULL)", f"coalesce({text}, '')")
        ]
        whole = [*(text for text in texts if text not in open_ones), *tests]
        raise Refused(
            lasting.format(", ".join(texts), "rows with NULLs"),
            f"This one would: CREATE UNIQUE INDEX {name} ON {table.label} ({', '.join(whole)})."
            if database.abilities.indexes_expressions
            else "",
        )


def _near_index(database: Database, request: DuplicatesRequest) -> str:
    """The index on expressions that comes nearest to what is ignored, "" where there is none."""
    if not database.abilities.indexes_expressions:
        return ""
    cells = []
    for one in request.grouping.same:
        text = one.text
        text = f"trim({text})" if Ignored.SPACE in one.ignored else text
        cells.append(f"lower({text})" if Ignored.CASE in one.ignored else text)
    statement = (
        f"CREATE UNIQUE INDEX {request.unique_name} ON {request.table.label} ({', '.join(cells)})"
    )
    return f"The nearest that this engine has, by its own rules for case and blanks: {statement}."


def find_movers(schema: Schema, root: Table, rules: Rules) -> dict[TableName, list[Reference]]:
    """The tables whose rows may move, each with the references that may be pointed at other rows:
    those into the table itself, and into tables that may lose rows because they collide."""
    found: dict[TableName, list[Reference]] = {}
    waiting, seen = [root], {root.name}
    while waiting:
        for reference in schema.incoming(waiting.pop()):
            child = reference.child
            if reference.broken or rules.treatment(reference).action is not Action.MOVE:
                continue
            found.setdefault(child.name, []).append(reference)
            if rules.drops(child) and child.name not in seen:
                seen.add(child.name)
                waiting.append(child)
    return found


def find_new(table: Table, references: Sequence[Reference]) -> tuple[str, ...]:
    """The columns of which a moved row has new values, and those that are unique together with
    them."""
    changing = {name for reference in references for name in reference.columns}
    wanted = changing | {
        name for one in _unique_with(table, changing) if not one.parts for name in one.columns
    }
    return tuple(name for name in table.column_names if name in wanted)


def _unique_with(table: Table, changing: set[str]) -> list[Unique]:
    return [one for one in table.uniques if one.uses & changing]


def find_fillable(schema: Schema, table: Table) -> list[tuple[str, ...]]:
    """Columns that may be NULL or blank, but for parts of a key and of references of several
    columns.

    Each reference stands by itself: a row may be moved by it, and then is not filled there.
    """
    whole = {
        name
        for reference in schema.outgoing(table)
        if len(reference.columns) > 1
        for name in reference.columns
    }
    fixed = whole | set(table.key) | set(table.identity)
    free = [
        column.name for column in table.columns if not column.generated and column.name not in fixed
    ]
    linking = {name for reference in schema.outgoing(table) for name in reference.columns}
    plain = tuple(name for name in free if name not in linking)
    return [*([plain] if plain else []), *((name,) for name in free if name in linking)]


def find_merging(database: Database, request: DuplicatesRequest, ranking: Ranking) -> Reach:
    """Everything that removing the surplus rows of a ranking touches, inside the open
    transaction.
    """
    if request.dependents.default is Rule.MOVE:
        search: _Merging | Search = _Merging(database, request)
    else:
        search = Search(database, request.dependents, store=True)
    root = request.table
    search.root = root
    database.lock_ranked(ranking)
    if not root.shares_identity:
        new = find_carried(database.schema, root) if isinstance(search, _Merging) else ()
        keys = database.make_key_set(root, new)
        surplus = database.pair(ranking, keys)
    else:
        groups, rows = database.count_groups(ranking)
        keys, surplus = KeySet(root, root.identity, ranking.name, alike=True), rows - groups
    search.sets[root.name], search.counts[root.name] = keys, surplus
    filled = _find_filled(database, request, ranking)
    moved: list[Change] = []
    if isinstance(search, _Merging):
        search.filled = next((one.keys for one in filled if one.rows), None)
        moved = search.find_moves()
    search.follow()
    detached = tuple(search.find_detachments())
    order = find_order(search.sets, database.schema, database.abilities)
    filled = [one for change in filled if (one := _leave(database, change, search.sets)).rows]
    changes = (*moved, *filled)
    collisions = tuple(search.find_collisions()) if isinstance(search, _Merging) else ()
    own_stops = (
        [*search.find_move_stops()]
        if isinstance(search, _Merging)
        else [*_kept_stops(search, ranking)]
    )
    return Reach(
        request.grouping.selection,
        surplus,
        database.count_rows(root),
        tuple((search.sets[name], search.counts[name]) for name in order.tables),
        detached,
        tuple(order.links),
        tuple(order.late),
        (*_parts(moved), *search.parts(order.tables, detached), *_fill_part(database, filled)),
        (
            *search.find_stops(detached),
            *search.find_knots(order.knots),
            *search.find_rings(),
            *own_stops,
            *_fill_stops(search, filled, moved),
        ),
        changes,
        collisions,
    )


def _kept_stops(search: Search, ranking: Ranking) -> Iterator[Stop]:
    """A kept row may hang on a surplus one: it must not go with it."""
    table = search.root
    if rows := search.database.count_kept(ranking, search.sets[table.name]):
        via = next(
            one for one in search.schema.outgoing(table) if search.counts.get(one.parent.name)
        )
        yield Stop(table, rows, via, "these are kept rows", f"--dependents {table.label}=detach")


def _parts(changes: Sequence[Change]) -> Iterator[Part]:
    for change in changes:
        if change.rows > change.detached:
            yield Part(change.table, change.action, change.rows - change.detached, change.via)
        if change.detached:
            yield Part(
                change.table,
                Action.DETACH,
                change.detached,
                tuple(one for one in change.via if one.is_self),
            )


def _fill_part(database: Database, filled: Sequence[Change]) -> Iterator[Part]:
    if filled:
        yield Part(
            filled[0].table,
            Action.FILL,
            database.count_union([change.keys for change in filled]),
            (),
        )


def _find_filled(database: Database, request: DuplicatesRequest, ranking: Ranking) -> list[Change]:
    """What would be filled in: first the columns that are no references."""
    changes = []
    for columns in find_fillable(database.schema, request.table) if request.filling else ():
        keys = database.make_key_set(request.table, columns)
        rows = database.fill_kept(ranking, keys, blanks=request.filling is Filling.BLANKS)
        changes.append(Change(Action.FILL, keys, columns, rows))
    return changes


def _leave(database: Database, filled: Change, sets: dict[TableName, KeySet]) -> Change:
    """Leave references alone that would point at rows that go, and drop columns in which nothing is
    filled."""
    for reference in database.schema.outgoing(filled.table):
        gone = sets.get(reference.parent.name)
        if gone and filled.rows and reference.columns == filled.columns and not reference.broken:
            database.leave(filled.keys, reference, gone)
    columns = tuple(
        name
        for name in filled.columns
        if filled.rows and database.count_shifted(filled.keys, [name])
    )
    marks = database.count_images(filled.keys) if columns else {}
    return Change(Action.FILL, filled.keys, columns, sum(marks.values()))


def _fill_stops(
    search: Search, filled: Sequence[Change], moved: Sequence[Change]
) -> Iterator[Stop]:
    for change in filled:
        database, table, gone = search.database, change.table, search.sets[change.table.name]
        sets = [change.keys, *(one.keys for one in moved if one.table is table)]
        for reference in database.schema.outgoing(table):
            inside = reference.is_self and reference.columns == change.columns
            if inside and (rows := database.count_loops(reference, sets)):
                yield Stop(
                    table, rows, reference, "filled in, it would make a loop", "leaving out --fill"
                )
        for unique in _unique_with(table, set(change.columns)):
            if not (unique.parts or unique.uses <= set(change.keys.new)):
                continue  # what is not filled with it keeps the rows apart, or the database refuses
            collided = database.make_key_set(table, find_carried(database.schema, table))
            if rows := database.find_collisions(change.keys, gone, unique, collided):
                via = next(iter(database.schema.outgoing(table)), None)
                if via:
                    reason = f"filled in, {', '.join(unique.columns)} would not be unique any more"
                    yield Stop(table, rows, via, reason, "leaving out --fill")


class _Merging(Search):
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
        if _is_movable(table):
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
        for unique in _unique_with(table, changing):
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
