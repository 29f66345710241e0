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
from yeldro.core.duplicates.movers import find_movers, find_pointing, is_movable
from yeldro.core.duplicates.moving import MovingSearch
from yeldro.core.duplicates.request import DuplicatesRequest
from yeldro.core.model.action import Action
from yeldro.core.model.fact import fact
from yeldro.core.model.key_set import AlikeRows, KeySet, find_carried
from yeldro.core.model.schema import Reference, Table
from yeldro.core.reach.new_values import find_new
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
        paired = _is_paired(database, request)
        database.prepare_key_sets([root], find_carried(schema, root) if paired else ())
        detaching = [r for r in schema.acting if rules.treatment(r).action is Action.DETACH]
        database.prepare_key_sets([reference.child for reference in detaching])
        for child, references in find_movers(schema, root, rules).items():
            _prepare_moves(database, schema.by_name[child], references)
    for columns in find_fillable(schema, root) if request.filling else ():
        database.prepare_key_sets([root], columns)
        doubled = [root] * len(root.unique_with(columns))
        database.prepare_key_sets(doubled, find_carried(schema, root))


def _prepare_moves(database: Database, table: Table, references: Sequence[Reference]) -> None:
    if not is_movable(table):
        return
    changing = find_pointing(references)
    database.prepare_key_sets([table], find_new(table, changing))
    # One for the rows that collide through each unique key, and one for those that go.
    carried = find_carried(database.schema, table)
    database.prepare_key_sets([table] * (len(table.unique_with(changing)) + 1), carried)


def find_merging(
    database: Database,
    request: DuplicatesRequest,
    ranking: Ranking,
    table_rows: int | None = None,
) -> Reach:
    """Everything that removing the surplus rows of a ranking touches, inside the open
    transaction. `table_rows` are counted where they are not known."""
    root = request.table
    moving = MovingSearch(database, request) if request.dependents.default is Rule.MOVE else None
    search = moving or Search(database, request.dependents, store=True)
    search.root = root
    keys, surplus = _fix_surplus(database, ranking, paired=_is_paired(database, request))
    search.sets[root.name], search.counts[root.name] = keys, surplus
    filled = find_filled(database, request, ranking)
    moved: list[Change] = []
    if moving:
        moving.filled = next((change.keys for change in filled if change.rows), None)
        moved = moving.find_moves()
    search.follow()
    detached = tuple(search.find_detachments())
    order = find_order(search.sets, database.schema, database.abilities)
    left = [leave_references(database, change, search.sets) for change in filled]
    filled = [change for change in left if change.rows]
    own_stops = moving.find_move_stops() if moving else _find_kept_stops(search, ranking)
    return Reach(
        request.grouping.selection,
        surplus,
        database.count_rows(root) if table_rows is None else table_rows,
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
        (*moved, *filled),
        tuple(moving.find_collisions()) if moving else (),
    )


def _is_paired(database: Database, request: DuplicatesRequest) -> bool:
    """Whether a surplus row has to be known beside the row that takes its place: only where
    anything may move to that."""
    moves = request.dependents.default is Rule.MOVE
    return moves and bool(database.schema.incoming(request.table))


def _fix_surplus(database: Database, ranking: Ranking, *, paired: bool) -> tuple[KeySet, int]:
    """The surplus rows by their keys, and how many they are. Those that are `paired` stand beside
    the row that takes their place."""
    table = ranking.table
    database.replacing.lock_ranked(ranking)
    if table.shares_identity:
        groups, rows = database.ranking.count_groups(ranking)
        return AlikeRows(table, table.identity, ranking.name), rows - groups
    new = find_carried(database.schema, table) if paired else ()
    keys = database.make_key_set(table, new)
    return keys, database.ranking.pair(ranking, keys)


def _find_kept_stops(search: Search, ranking: Ranking) -> Iterator[Stop]:
    """A kept row may depend on a surplus one: it must not go with it."""
    table = search.root
    if rows := search.database.ranking.count_kept(ranking, search.sets[table.name]):
        ways = [
            reference
            for reference in search.schema.outgoing(table)
            if search.counts.get(reference.parent.name)
        ]
        lift = fact("lift.detach", table=table)
        yield Stop(table, rows, ways[0], fact("reason.kept-rows"), lift)


def _parts(changes: Sequence[Change]) -> Iterator[Part]:
    for change in changes:
        if change.rows > change.detached:
            yield Part(change.table, change.action, change.rows - change.detached, change.via)
        if change.detached:
            yield Part(
                change.table,
                Action.DETACH,
                change.detached,
                tuple(reference for reference in change.via if reference.is_self),
            )
