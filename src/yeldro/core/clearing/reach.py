"""Everything that clearing columns of rows touches."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from yeldro.core.clearing.request import ClearRequest, Emptiness, has_default
from yeldro.core.clearing.rules import make_rules
from yeldro.core.database.connection import Database
from yeldro.core.model.action import Action
from yeldro.core.model.fact import Fact, fact
from yeldro.core.model.key_set import KeySet, StoredKeys, find_carried
from yeldro.core.model.schema import Reference, Schema, Table, Unique
from yeldro.core.reach.new_values import find_doubled, find_new
from yeldro.core.reach.reach import Change, Detachment, Part, Reach, Stop
from yeldro.core.reach.search import Search
from yeldro.core.selection.selection import Selection
from yeldro.errors import UsageError


def prepare_clearing(database: Database, selection: Selection, request: ClearRequest) -> None:
    """Make what a search inside a read-only transaction will need."""
    schema, table = database.schema, selection.table
    database.prepare_key_sets([table])
    database.prepare_key_sets([table], find_new(table, request.columns))
    doubled = [table] * len(_find_uniques(table, request))
    database.prepare_key_sets(doubled, find_carried(schema, table))
    for names in {_find_lost_names(one, request) for one in _find_pointing(schema, table, request)}:
        database.prepare_key_sets([table], find_new(table, names))
    rules = make_rules(request)
    pointing = [one for one in _find_pointing(schema, table, request) if not one.broken]
    actions = {one: rules.treatment(one).action for one in pointing}
    database.prepare_key_sets([one.child for one, does in actions.items() if does is Action.DETACH])


def _find_pointing(schema: Schema, table: Table, request: ClearRequest) -> list[Reference]:
    """The references that point at a column which is cleared."""
    return [one for one in schema.incoming(table) if set(one.referred) & set(request.columns)]


def _find_lost_names(reference: Reference, request: ClearRequest) -> tuple[str, ...]:
    """The cleared columns that a reference points at."""
    return tuple(name for name in request.columns if name in reference.referred)


def _find_uniques(table: Table, request: ClearRequest) -> list[Unique]:
    """What could hold for no two rows any more. NULLs keep rows apart where each is like no
    other."""
    values = find_values(table, request)
    null = {name for name, text in values.items() if text == "NULL"}
    return [
        unique
        for unique in table.unique_with(request.columns)
        if unique.parts or not (unique.nulls_differ and unique.uses & null)
    ]


def find_values(table: Table, request: ClearRequest) -> Mapping[str, str]:
    """What each cleared column will hold, as SQL has it."""

    def find(name: str) -> str:
        column = table.column(name)
        if request.to is Emptiness.DEFAULT and column.default and has_default(column):
            return column.default
        return "''" if request.to is Emptiness.BLANK else "NULL"

    return {name: find(name) for name in request.columns}


class _Search(Search):
    """A search for the rows that point at what is cleared. `sets` holds the rows that are, with
    what their columns will hold."""

    def __init__(self, database: Database, request: ClearRequest) -> None:
        super().__init__(database, make_rules(request), store=True)
        self.request = request
        self.losing: dict[tuple[str, ...], tuple[StoredKeys, int]] = {}

    def fix(self, selection: Selection, matched: KeySet) -> int:
        """Fix the rows that do not hold it already."""
        self.root, self.matched = selection.table, matched
        if self.root.shares_identity:
            raise UsageError(
                f"Rows of {self.root.label} would be cleared, but nothing tells them apart.",
                "Give it a key without NULLs.",
            )
        values = find_values(self.root, self.request)
        for name, value in values.items():
            column = self.root.column(name)
            if not self.database.replacing.can_hold(column, value):
                raise UsageError(
                    f"{self.root.label}.{name} cannot hold {value}: its type {column.type} does "
                    "not take it."
                )
        self.images, rows = self._find_losing(tuple(self.request.columns))
        self.sets[self.root.name], self.counts[self.root.name] = self.images, rows
        return rows

    def _find_losing(self, names: tuple[str, ...]) -> tuple[StoredKeys, int]:
        """The rows in which one of these columns will hold something else, and how many they
        are."""
        if names not in self.losing:
            values = find_values(self.root, self.request)
            keys = self.database.make_key_set(self.root, find_new(self.root, names))
            wanted = {name: values[name] for name in names}
            found = self.database.replacing.find_cleared(self.matched, keys, wanted)
            self.losing[names] = (keys, found)
        return self.losing[names]

    def _into(self) -> Iterator[tuple[Reference, KeySet]]:
        for reference, _ in super()._into():
            names = _find_lost_names(reference, self.request)
            if names and not self._has_both_ends(reference):
                parents, rows = self._find_losing(names)
                if rows:
                    yield reference, parents

    def _has_both_ends(self, reference: Reference) -> bool:
        """Whether rows would lose a reference, and others, or they themselves, what it points
        at."""
        cleared = set(self.request.columns)
        return reference.is_self and bool(
            cleared & set(reference.columns) and cleared & set(reference.referred)
        )

    def _going(self, table: Table) -> KeySet | None:
        return None

    def _find_lift(self, reference: Reference) -> Fact | None:
        return fact("lift.detach", table=reference.child) if reference.nullable_columns else None

    def _lift_rows(self, table: Table) -> Fact | None:
        return None

    def find_own_stops(self) -> Iterator[Stop]:
        """Why the rows themselves cannot hold what they are to hold."""
        table, images, replacing = self.root, self.images, self.database.replacing
        uniques = _find_uniques(table, self.request)
        for unique, rows in find_doubled(self.database, images, images, uniques):
            yield Stop(table, rows, None, fact("reason.clear-alike", columns=unique.columns), None)
        for check in table.checks:
            if rows := replacing.count_failing(images, check) or 0:
                yield Stop(table, rows, None, fact("reason.clear-check", check=check), None)
        for reference in self.schema.outgoing(table):
            if set(reference.columns) & set(self.request.columns) and not reference.broken:
                yield from self._find_lost(reference)
        for reference in self.schema.incoming(table):
            if self._has_both_ends(reference):
                yield from self._find_both(reference)

    def _find_lost(self, reference: Reference) -> Iterator[Stop]:
        if rows := self.database.replacing.count_unfit(reference, self.images):
            yield Stop(self.root, rows, reference, fact("reason.clear-lost"), None)

    def _find_both(self, reference: Reference) -> Iterator[Stop]:
        parents, _ = self._find_losing(_find_lost_names(reference, self.request))
        if rows := self.database.count_referencing(reference, parents, None):
            reason = fact("reason.clear-both", columns=reference.columns)
            yield Stop(self.root, rows, reference, reason, None)


def find_clearing(database: Database, selection: Selection, request: ClearRequest) -> Reach:
    """Everything that clearing touches, inside the open transaction."""
    search = _Search(database, request)
    matched: StoredKeys = database.make_key_set(selection.table)
    count = database.match(selection, matched)
    rows = search.fix(selection, matched)
    detached = tuple(search.find_detachments()) if rows else ()
    change = Change(Action.CLEAR, search.images, request.columns, rows, to=request.to)
    return Reach(
        selection,
        count,
        database.count_rows(selection.table),
        (),
        detached,
        (),
        (),
        tuple(_make_parts(search, change, detached)) if rows else (),
        (*search.find_stops(detached), *search.find_own_stops()) if rows else (),
        (change,) if rows else (),
        cleared=matched,
    )


def _make_parts(
    search: _Search, change: Change, detached: tuple[Detachment, ...]
) -> Iterator[Part]:
    """Rows let go of what they point at before it is cleared."""
    yield from search.parts([], detached)
    yield Part(change.table, Action.CLEAR, change.rows, ())
