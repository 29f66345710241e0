"""Look at the rows that a deletion, or clearing, would touch."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager

from yeldro.core.clearing.request import ClearRequest
from yeldro.core.database.abilities import Row
from yeldro.core.database.connection import Database
from yeldro.core.model.key_set import StoredKeys
from yeldro.core.reach.explain import explaining
from yeldro.core.reach.reach import Stop, root_keys
from yeldro.core.reach.request import Request
from yeldro.core.reach.search import find_reach, tables_in_reach
from yeldro.core.run.preview import Preview, make_preview, sample_columns
from yeldro.usecases.rows import read_rows
from yeldro.usecases.transaction import looking


def preview(database: Database, request: Request) -> Preview:
    """Find what a deletion, or clearing, would touch, in a transaction that cannot change
    anything."""
    with _previewed(database, request) as found:
        return found


@contextmanager
def _previewed(database: Database, request: Request) -> Iterator[Preview]:
    """The same while the context is open."""
    if isinstance(request, ClearRequest):
        from yeldro.usecases.steps import Clearing

        job = Clearing(database, request)
        job.prepare()
        with looking(database):
            yield job.look(store=True)
        return
    selection = read_rows(database, request)
    database.prepare_key_sets(tables_in_reach(database.schema, selection.table, request.rules))
    with looking(database), explaining(database, selection):
        yield make_preview(database, request, find_reach(database, selection, request.rules))


@contextmanager
def listed_misses(database: Database, listed: StoredKeys) -> Iterator[Iterator[tuple[str, Row]]]:
    """The keys of a list that have no row, and those that stand in it several times, streamed while
    the context is open."""
    with looking(database):
        yield database.list_misses(listed)


def find_stops(database: Database, request: Request) -> tuple[Stop, ...]:
    """What would block a deletion, and nothing else about it."""
    selection = read_rows(database, request)
    database.prepare_key_sets(tables_in_reach(database.schema, selection.table, request.rules))
    with looking(database):
        return tuple(find_reach(database, selection, request.rules).stops)


@contextmanager
def matched_rows(
    database: Database, request: Request
) -> Iterator[tuple[Preview, tuple[str, ...], Iterator[Row]]]:
    """A preview with the columns and all matched rows, streamed in key order while the context is
    open."""
    with _previewed(database, request) as found:
        table = found.selection.table
        names = (
            sample_columns(found.selection, request.show) if request.show else table.column_names
        )
        yield found, names, database.sample(root_keys(found.reach), names, None)
