"""Filling what a kept row lacks from the rows that go."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence

from yeldro.core.database.connection import Database
from yeldro.core.duplicates.request import DuplicatesRequest, Filling
from yeldro.core.model.action import Action
from yeldro.core.model.fact import fact
from yeldro.core.model.key_set import KeySet
from yeldro.core.model.schema import Schema, Table, TableName
from yeldro.core.reach.new_values import find_doubled
from yeldro.core.reach.reach import Change, Part, Stop
from yeldro.core.reach.search import Search
from yeldro.core.selection.grouping import Ranking


def find_fillable(schema: Schema, table: Table) -> list[tuple[str, ...]]:
    """Columns that may be NULL or blank, but for parts of a key and of references of several
    columns.

    Each reference stands by itself: a row may be moved by it, and then is not filled there.
    """
    fixed = {*table.key, *table.identity}
    linking: set[str] = set()
    for reference in schema.outgoing(table):
        linking.update(reference.columns)
        if len(reference.columns) > 1:
            fixed.update(reference.columns)
    settable = [column.name for column in table.columns if not column.generated]
    free = [name for name in settable if name not in fixed]
    # Columns that belong to no reference are filled together, in one look through the groups. A
    # reference is filled as a whole or not at all.
    plain = tuple(name for name in free if name not in linking)
    alone: list[tuple[str, ...]] = [(name,) for name in free if name in linking]
    return [plain, *alone] if plain else alone


def make_fill_part(database: Database, filled: Sequence[Change]) -> Iterator[Part]:
    if filled:
        yield Part(
            filled[0].table,
            Action.FILL,
            database.count_union([change.keys for change in filled]),
            (),
        )


def find_filled(database: Database, request: DuplicatesRequest, ranking: Ranking) -> list[Change]:
    """What would be filled in: first the columns that are no references."""
    changes = []
    for columns in find_fillable(database.schema, request.table) if request.filling else ():
        keys = database.make_key_set(request.table, columns)
        rows = database.ranking.fill_kept(ranking, keys, blanks=request.filling is Filling.BLANKS)
        changes.append(Change(Action.FILL, keys, columns, rows))
    return changes


def leave_references(
    database: Database, filled: Change, sets: Mapping[TableName, KeySet]
) -> Change:
    """Leave references alone that would point at rows that go, and drop columns in which nothing is
    filled."""
    for reference in database.schema.outgoing(filled.table):
        gone = sets.get(reference.parent.name)
        # The value was right for the surplus row, and points at a row that goes with it.
        if gone and filled.rows and reference.columns == filled.columns and not reference.broken:
            database.replacing.leave(filled.keys, reference, gone)
    columns = tuple(
        name
        for name in filled.columns
        if filled.rows and database.replacing.count_shifted(filled.keys, [name])
    )
    marks = database.replacing.count_images(filled.keys) if columns else {}
    return Change(Action.FILL, filled.keys, columns, sum(marks.values()))


def find_fill_stops(
    search: Search, filled: Sequence[Change], moved: Sequence[Change]
) -> Iterator[Stop]:
    """Rows that cannot be filled: they would point at themselves, or not be unique any more."""
    for change in filled:
        yield from _find_loops(search, change, moved)
        yield from _find_doubled(search, change)


def _find_loops(search: Search, change: Change, moved: Sequence[Change]) -> Iterator[Stop]:
    database, table = search.database, change.table
    # Rows that move and rows that are filled can only make a loop together.
    sets = [change.keys, *(one.keys for one in moved if one.table is table)]
    reason = fact("reason.fill-loop")
    for reference in database.schema.outgoing(table):
        if not reference.is_self or reference.columns != change.columns:
            continue
        if rows := database.replacing.count_loops(reference, sets):
            yield Stop(table, rows, reference, reason, fact("lift.no-fill"))


def _find_doubled(search: Search, change: Change) -> Iterator[Stop]:
    table, gone = change.table, search.sets[change.table.name]
    for unique, rows in find_doubled(
        search.database, change.keys, gone, table.unique_with(change.columns)
    ):
        reason = fact("reason.fill-not-unique", columns=unique.columns)
        yield Stop(table, rows, None, reason, fact("lift.no-fill"))
