"""Finding the reach inside an open transaction: from the matched rows down, until nothing more
comes in."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from msgspec import Struct
from msgspec.structs import replace

from yeldro.core.database.abilities import Mode
from yeldro.core.database.connection import Database
from yeldro.core.database.phase import Phase
from yeldro.core.model.action import Action
from yeldro.core.model.fact import Fact, fact
from yeldro.core.model.graph import find_components
from yeldro.core.model.key_set import (
    KeyRange,
    KeySet,
    StoredKeys,
    WholeTable,
    find_carried,
    stored,
)
from yeldro.core.model.schema import Reference, Schema, Table, TableName, overlaps
from yeldro.core.reach.engine_checks import is_refused, runs_triggers
from yeldro.core.reach.order import find_order, reachable
from yeldro.core.reach.reach import Detachment, Part, Reach, Stop
from yeldro.core.reach.rules import Rules, Treatment
from yeldro.core.reach.unindexed import count_looked_through
from yeldro.core.selection.plain import is_plain
from yeldro.core.selection.selection import Selection
from yeldro.errors import Refused, UsageError


class Batch(Struct, frozen=True, eq=False):
    """What is known where only some of the rows that were chosen are looked at. `going` are all of
    them: where some depend on rows of this one, they go with these. `table_rows` is how many the
    table has, None where that must be counted.

    `trusting`: rows that the database itself would refuse to leave behind are not looked for.
    `untouched`: nobody wrote since the rows were chosen, so that all of them match still; `alone`:
    and that no others do.
    `at_once`: nothing needs the rows before they go, so that whether they match still may be asked
    while they do.
    """

    going: StoredKeys
    table_rows: int | None = None
    trusting: bool = False
    untouched: bool = False
    at_once: bool = False
    alone: bool = False


def find_reach(
    database: Database,
    selection: Selection,
    rules: Rules,
    *,
    store: bool = False,
    batch: Batch | None = None,
) -> Reach:
    """Find the reach of a selection inside the open transaction. Only tables that can hold
    dependents are visited.

    With `store` every row's key is stored, so that the reach can be compared with a later one.
    """
    search = Search(database, rules, store, batch)
    rows = batch.table_rows if batch else None
    matched = search.begin(selection)
    search.follow()
    detached = tuple(search.find_detachments())
    order = find_order(
        search.sets, database.schema, database.abilities, breaks_cycles=rules.breaks_cycles
    )
    return Reach(
        selection,
        matched,
        database.count_rows(selection.table) if rows is None else rows,
        tuple((search.sets[name], search.counts[name]) for name in order.tables),
        detached,
        tuple(order.links),
        tuple(order.late),
        tuple(search.parts(order.tables, detached)),
        (*search.find_stops(detached), *search.find_knots(order.knots), *search.find_rings()),
        unasked=search.unasked,
    )


def tables_in_reach(
    schema: Schema, root: Table, rules: Rules, *, store: bool = False
) -> list[Table]:
    """A table for each key set that a search from `root` may store: once if its rows may go, and
    once for each reference that may be taken away."""
    actions = {reference: rules.treatment(reference).action for reference in schema.acting}
    deleting = [r for r, action in actions.items() if action is Action.DELETE and not r.broken]
    reached = reachable(root.name, _edges(deleting))
    leaves = {} if store else _find_leaves(schema, root, reached, rules)
    going = [schema.by_name[name] for name in reached if name not in leaves]
    detaching = [r for r, action in actions.items() if action is Action.DETACH]
    detached = [r.child for r in detaching if r.parent.name in set(reached)]
    return going + [table for table in detached if table.identity and not table.shares_identity]


def _edges(references: Sequence[Reference]) -> list[tuple[TableName, TableName]]:
    return [(reference.parent.name, reference.child.name) for reference in references]


def _find_leaves(
    schema: Schema, root: Table, reached: list[TableName], rules: Rules
) -> dict[TableName, Reference]:
    """The tables whose rows need no stored keys, each with the one reference through which they
    depend on others."""
    leaves = {}
    for name in reached:
        table = schema.by_name[name]
        into = [r for r in schema.acting if r.child is table and r.parent.name in reached]
        # Nothing depends on its rows, so that nobody will ask for their keys.
        stands_alone = table.identity and not table.refusal and not schema.incoming(table)
        # Rows that two references bring in would count twice without keys.
        if table is root or not stands_alone or len(into) != 1:
            continue
        reference = into[0]
        # Only a reference that the engine keeps stays as it was when its parents are locked.
        certain = reference.declared and reference.enforced and not reference.broken
        if certain and rules.treatment(reference).action is Action.DELETE:
            leaves[name] = reference
    return leaves


class Search:
    """The state of one search: a key set for each table that loses rows, filled from the parents
    down."""

    def __init__(
        self, database: Database, rules: Rules, store: bool, batch: Batch | None = None
    ) -> None:
        self.store = store
        self.batch = batch
        self.going = batch.going if batch else None
        self.database = database
        self.schema = database.schema
        self.rules = rules
        self.sets: dict[TableName, KeySet] = {}
        self.counts: dict[TableName, int] = {}
        self.via: set[Reference] = set()
        self.rounds = 0
        self.unasked = False

    def begin(self, selection: Selection) -> int:
        self.root = selection.table
        self.database.announce(Phase.MATCHING, self.root.label, None)
        if selection.truncate:
            keys: KeySet = WholeTable(self.root, self.root.identity)
            rows = self.database.count_rows(self.root)
        elif whole := self._find_range(selection):
            keys, rows = whole, whole.last - whole.first + 1
        else:
            keys = self.database.make_key_set(self.root)
            rows = self.database.match(selection, keys)
        self.sets[self.root.name], self.counts[self.root.name] = keys, rows
        return rows

    def _find_range(self, selection: Selection) -> KeyRange | None:
        """The rows of a batch where they were numbered, if all of them match still, and no other
        row of the table can come to them."""
        listed = selection.listed
        if not isinstance(listed, KeyRange) or self.store:
            return None
        reached = reachable(self.root.name, _edges(self._find_deleting()))
        grows = any(
            reference.child is self.root and reference.parent.name in reached
            for reference in self.schema.acting
        )
        holds = set(find_carried(self.schema, self.root)) <= set(listed.columns)
        if not holds or grows:
            return None
        can_go = self._goes_alone() and is_plain(selection)
        if self.batch is not None and self.batch.untouched:
            self.unasked = can_go and self.batch.alone
            return replace(listed, has_all=self.unasked)
        self.unasked = can_go
        return listed if self.unasked or self.database.match_all(selection, listed) else None

    def _goes_alone(self) -> bool:
        """Whether nothing but rows of the table goes, and nothing must be looked at before."""
        if self.batch is None or not self.batch.at_once or runs_triggers(self.database, self.root):
            return False
        into = [one for one in self.schema.acting if one.parent is self.root]
        return all(
            self.rules.treatment(one).action is Action.STOP and self._is_left_to_database(one)
            for one in into
        )

    def follow(self) -> None:
        """Follow every reference whose rows go too. Afterwards only tables that lose rows have a
        key set."""
        deleting = self._find_deleting()
        reached = reachable(self.root.name, _edges(deleting))
        leaves = {} if self.store else _find_leaves(self.schema, self.root, reached, self.rules)
        # Parents before children: a table is filled once, from sets that grow no more.
        for component in find_components(reached, _edges(deleting)):
            if component[0] not in leaves:
                self._follow_into(set(component), deleting)
        # Their parents are complete by now.
        for name, leaf in leaves.items():
            self._follow_to_leaf(name, leaf)
        self.via.update(reference for reference in deleting if self._leads_to_rows(reference))
        # A table that could have lost rows and does not is no part of the reach.
        full = {name for name, rows in self.counts.items() if rows} | {self.root.name}
        self.sets = {name: keys for name, keys in self.sets.items() if name in full}

    def _find_deleting(self) -> list[Reference]:
        """The references whose rows go too, all of them or those that were chosen."""
        acting = [reference for reference in self.schema.acting if not reference.broken]
        return [r for r in acting if self._brings_all(r) or self._brings_chosen(r)]

    def _brings_all(self, reference: Reference) -> bool:
        """Whether all rows that depend on rows which go, go too."""
        return self.rules.treatment(reference).action is Action.DELETE

    def _brings_chosen(self, reference: Reference) -> bool:
        """Whether those of them go that were chosen, and would have gone in a later batch."""
        return self.going is not None and reference.child is self.root

    def _follow_to_leaf(self, name: TableName, reference: Reference) -> None:
        """Rows that nothing references need no keys of their own."""
        if self.counts.get(reference.parent.name):
            parents = self.sets[reference.parent.name]
            self.database.announce(Phase.FOLLOWING, reference.child.label, None)
            self._ease(reference)
            self.sets[name], rows = self.database.find_dependent(reference, parents)
            self.counts[name] = 0
            self._note(reference, rows)

    def _follow_into(self, members: set[TableName], deleting: Sequence[Reference]) -> None:
        """Bring in the rows of tables that reference each other, or of a single one: first through
        references from outside, then through their own."""
        into = [reference for reference in deleting if reference.child.name in members]
        for reference in into:
            if reference.parent.name not in members:
                self._pull(reference, since=None)
        self._close([reference for reference in into if reference.parent.name in members])

    def _close(self, inner: list[Reference]) -> None:
        """Follow the references inside a component until a whole round brings nothing new."""
        selves = [one for one in inner if one.is_self and self._brings_all(one)]
        others = [one for one in inner if one not in selves]
        # A round looks only at the rows of the round before: older ones were followed already.
        since: int | None = None
        while inner:
            added = self._close_selves(selves)
            self.rounds += 1
            added += sum(self._pull(reference, since=since) for reference in others)
            since = self.rounds
            if not added or not others:
                return

    def _close_selves(self, selves: list[Reference]) -> int:
        total = 0
        while True:
            added = 0
            for reference in selves:
                if keys := self.sets.get(reference.child.name):
                    self.database.announce(Phase.FOLLOWING, reference.child.label, None)
                    new = self.database.close_over(reference, stored(keys), round=self.rounds)
                    self._note(reference, new)
                    added += new
            total += added
            # One reference alone is followed to any depth in one statement.
            if not added or len(selves) == 1:
                return total

    def _pull(self, reference: Reference, since: int | None) -> int:
        parents = self.sets.get(reference.parent.name)
        if parents is None or not self.counts[reference.parent.name]:
            return 0
        child = reference.child
        if child.name not in self.sets:
            if self._is_part(reference, parents):
                return 0
            self.sets[child.name] = self._make_key_set(child)
            self.counts[child.name] = 0
        into = stored(self.sets[child.name])
        self.database.announce(Phase.FOLLOWING, child.label, None)
        self._ease(reference)
        within = None if self._brings_all(reference) else self.going
        new = self.database.pull(
            reference, parents, into, round=self.rounds, since=since, within=within
        )
        self._note(reference, new)
        return new

    def _ease(self, reference: Reference) -> None:
        """A run builds the index that the engine will need for its checks before it looks for the
        rows that depend on others."""
        if self.database.mode is Mode.WRITE:
            checks = self.counts[reference.parent.name]
            if count_looked_through(self.database, reference, checks):
                self.database.build_index(reference)

    def _note(self, reference: Reference, new: int) -> None:
        self.counts[reference.child.name] += new
        if new:
            self.via.add(reference)

    def _is_part(self, reference: Reference, parents: KeySet) -> bool:
        """Whether rows of the child would be counted under another name too. Refused where there
        are some."""
        child = reference.child
        others = [
            keys.table
            for keys in self.sets.values()
            if keys.table is not child and overlaps(keys.table, child)
        ]
        if others and self.database.has_referencing(reference, parents):
            raise Refused(
                f"Rows of {others[0].label} and of {child.label} would go, and the one is a part "
                "of the other.",
                "Name the partitioned table itself.",
            )
        return bool(others)

    def _make_key_set(self, table: Table) -> StoredKeys:
        if table.refusal:
            raise Refused(f"Rows of {table.label} would be touched, but {table.refusal}.")
        if not table.identity:
            raise UsageError(
                f"{table.label} references rows that would go, but nothing tells its rows apart.",
                "Give it a key without NULLs.",
            )
        return self.database.make_key_set(table)

    def _leads_to_rows(self, reference: Reference) -> bool:
        """Whether rows that go depend on others through this reference, even where another brought
        them in first."""
        parents = self.sets.get(reference.parent.name)
        if reference in self.via or parents is None or not self.counts.get(reference.child.name):
            return False
        if not self._brings_all(reference):
            return False
        return self.database.has_referencing(reference, parents)

    def _into(self) -> Iterator[tuple[Reference, KeySet]]:
        """The references into rows that go, and the key set that they point into."""
        for reference in self.schema.acting:
            parents = self.sets.get(reference.parent.name)
            if parents is not None and self.counts[reference.parent.name]:
                yield reference, parents

    def _going(self, table: Table) -> KeySet | None:
        """The rows of a table that go anyway, None where none do."""
        return self.sets.get(table.name)

    def _find_lift(self, reference: Reference) -> Fact | None:
        """What would allow it that rows depend on those that go."""
        kind = "lift.either" if reference.nullable_columns else "lift.delete"
        return fact(kind, table=reference.child)

    def _leaving(self, action: Action) -> Iterator[tuple[Reference, Treatment, KeySet]]:
        """The references into rows that go, with one kind of treatment, and the key set they point
        into."""
        for reference, parents in self._into():
            if reference.broken:
                continue
            treatment = self.rules.treatment(reference)
            if treatment.action is action:
                yield reference, treatment, parents

    def find_detachments(self) -> Iterator[Detachment]:
        """Rows that stay and lose their reference, with their keys."""
        for reference, treatment, parents in self._leaving(Action.DETACH):
            child = reference.child
            # Rows that go anyway need not let go of anything.
            gone = self._going(child)
            if self._is_part(reference, parents):
                continue
            if not self.database.count_referencing(reference, parents, gone):
                continue
            if child.shares_identity:
                raise UsageError(
                    f"Rows of {child.label} would be detached, but nothing tells them apart.",
                    f"Give it a key without NULLs, or --dependents {child.label}=delete.",
                )
            keys = self._make_key_set(child)
            rows = self.database.pull(reference, parents, keys, without=[gone] if gone else [])
            yield Detachment(reference, treatment, keys, rows)

    def _is_left_to_database(self, reference: Reference) -> bool:
        """Not where it is one of the table to itself: those that block may be rows of a later
        batch, which then go with these."""
        is_trusted = self.batch is not None and self.batch.trusting
        is_own = reference.child is self.root
        return is_trusted and not is_own and is_refused(self.database, reference)

    def find_stops(self, detached: tuple[Detachment, ...]) -> Iterator[Stop]:
        self.database.announce(Phase.LOOKING, self.root.label, None)
        for reference, treatment, parents in self._leaving(Action.STOP):
            if self._is_left_to_database(reference):
                continue
            rows = self.database.count_referencing(reference, parents, self._going(reference.child))
            if rows:
                yield Stop(
                    reference.child,
                    rows,
                    reference,
                    treatment.reason or fact("reason.asked"),
                    self._find_lift(reference),
                )
        yield from self._ambiguous()
        for detachment in detached:
            if detachment.treatment.to_default:
                yield from self._defaults_without_parent(detachment)
            yield from self._referenced_by_others(detachment)

    def _ambiguous(self) -> Iterator[Stop]:
        """References that the database keeps although what they point at is not unique: which row
        is meant?"""
        for reference, parents in self._into():
            if not reference.broken or reference.child.name not in self.schema.by_name:
                continue
            if rows := self.database.count_referencing(reference, parents, None):
                yield Stop(
                    reference.child,
                    rows,
                    reference,
                    fact("reason.broken", text=reference.broken.lower()),
                    None,
                )

    def _defaults_without_parent(self, detachment: Detachment) -> Iterator[Stop]:
        gone = self.sets.get(detachment.reference.parent.name)
        if not self.database.default_has_parent(detachment.reference, gone):
            reason = fact("reason.no-default")
            yield Stop(
                detachment.reference.child,
                detachment.rows,
                detachment.reference,
                reason,
                self._find_lift(detachment.reference),
            )

    def _referenced_by_others(self, detachment: Detachment) -> Iterator[Stop]:
        """A column that a detach would clear may itself be what other rows point at."""
        child = detachment.reference.child
        for reference in self.schema.incoming(child):
            if set(reference.referred) & set(detachment.treatment.columns) and not reference.broken:
                gone = self._going(reference.child)
                if rows := self.database.count_referencing(reference, detachment.keys, gone):
                    reason = fact("reason.points-at-detached", table=child)
                    yield Stop(reference.child, rows, reference, reason, self._lift_rows(child))

    def _lift_rows(self, table: Table) -> Fact | None:
        """What would allow it that other rows depend on these of a table."""
        return fact("lift.delete", table=table)

    def find_knots(self, references: Sequence[Reference]) -> Iterator[Stop]:
        """Tables that reference each other in a way that the engine cannot take apart."""
        lift = fact("lift.cycles") if self.database.abilities.needs_leave_for_cycles else None
        reason = fact("reason.cycle")
        for reference in references:
            rows = self.counts[reference.child.name]
            yield Stop(reference.child, rows, reference, reason, lift)

    def find_rings(self) -> Iterator[Stop]:
        """Rows that point at themselves, or at each other within their table, where the engine
        cannot delete such."""
        if self.rules.breaks_cycles:
            return
        lift = fact("lift.cycles") if self.database.abilities.needs_leave_for_cycles else None
        reason = fact("reason.ring")
        for name, keys in self.sets.items():
            for reference in self.schema.outgoing(keys.table) if self.counts[name] else ():
                free = reference.nullable_columns and reference.is_clearable
                if not reference.is_self or free or reference.broken:
                    continue
                if rows := self.database.count_ringed(reference, keys, self.counts[name]):
                    yield Stop(keys.table, rows, reference, reason, lift)

    def parts(self, order: list[TableName], detached: tuple[Detachment, ...]) -> Iterator[Part]:
        by_table: dict[TableName, list[Detachment]] = {}
        for detachment in detached:
            by_table.setdefault(detachment.reference.child.name, []).append(detachment)
        for group in by_table.values():
            rows = self.database.count_union([detachment.keys for detachment in group])
            references = tuple(detachment.reference for detachment in group)
            yield Part(group[0].reference.child, Action.DETACH, rows, references)
        for name in order:
            yield Part(self.sets[name].table, Action.DELETE, self.counts[name], self._via(name))

    def _via(self, name: TableName) -> tuple[Reference, ...]:
        return tuple(r for r in self.schema.acting if r.child.name == name and r in self.via)
