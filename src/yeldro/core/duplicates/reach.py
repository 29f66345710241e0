"""Everything that removing surplus rows touches."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from yeldro.core.database.connection import Database
from yeldro.core.duplicates.filling import (
    find_fill_stops,
    find_fillable,
    find_filled,
    leave_references,
    make_fill_part,
)
from yeldro.core.duplicates.movers import find_movers, find_new, is_movable, unique_with
from yeldro.core.duplicates.moving import MovingSearch
from yeldro.core.duplicates.request import DuplicatesRequest
from yeldro.core.model.action import Action
from yeldro.core.model.key_set import AlikeRows, find_carried
from yeldro.core.reach.order import find_order
from yeldro.core.reach.reach import Change, Part, Reach, Stop
from yeldro.core.reach.rules import Rule
from yeldro.core.reach.search import Search, tables_in_reach
from yeldro.core.selection.grouping import Ranking


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
            if not is_movable(table):
                continue
            database.prepare_key_sets([table], find_new(table, references))
            # One for the rows that collide through each unique key, and one for those that go.
            unique = unique_with(table, {name for one in references for name in one.columns})
            database.prepare_key_sets([table] * (len(unique) + 1), find_carried(schema, table))
    if request.filling:
        for columns in find_fillable(schema, root):
            database.prepare_key_sets([root], columns)
            database.prepare_key_sets(
                [root] * len(unique_with(root, set(columns))), find_carried(schema, root)
            )


def find_merging(database: Database, request: DuplicatesRequest, ranking: Ranking) -> Reach:
    """Everything that removing the surplus rows of a ranking touches, inside the open
    transaction.
    """
    if request.dependents.default is Rule.MOVE:
        search: MovingSearch | Search = MovingSearch(database, request)
    else:
        search = Search(database, request.dependents, store=True)
    root = request.table
    search.root = root
    database.lock_ranked(ranking)
    if not root.shares_identity:
        new = find_carried(database.schema, root) if isinstance(search, MovingSearch) else ()
        keys = database.make_key_set(root, new)
        surplus = database.pair(ranking, keys)
    else:
        groups, rows = database.count_groups(ranking)
        keys, surplus = AlikeRows(root, root.identity, ranking.name), rows - groups
    search.sets[root.name], search.counts[root.name] = keys, surplus
    filled = find_filled(database, request, ranking)
    moved: list[Change] = []
    if isinstance(search, MovingSearch):
        search.filled = next((one.keys for one in filled if one.rows), None)
        moved = search.find_moves()
    search.follow()
    detached = tuple(search.find_detachments())
    order = find_order(search.sets, database.schema, database.abilities)
    filled = [
        one for change in filled if (one := leave_references(database, change, search.sets)).rows
    ]
    changes = (*moved, *filled)
    collisions = tuple(search.find_collisions()) if isinstance(search, MovingSearch) else ()
    own_stops = (
        [*search.find_move_stops()]
        if isinstance(search, MovingSearch)
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
        (*_parts(moved), *search.parts(order.tables, detached), *make_fill_part(database, filled)),
        (
            *search.find_stops(detached),
            *search.find_knots(order.knots),
            *search.find_rings(),
            *own_stops,
            *find_fill_stops(search, filled, moved),
        ),
        changes,
        collisions,
    )


def _kept_stops(search: Search, ranking: Ranking) -> Iterator[Stop]:
    """A kept row may depend on a surplus one: it must not go with it."""
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
