"""Look at duplicates."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from contextlib import contextmanager

from yeldro.core.database.abilities import Row
from yeldro.core.database.connection import Database
from yeldro.core.duplicates.groups import Duplicates, find_duplicates
from yeldro.core.duplicates.proposals import Proposal, propose_same
from yeldro.core.duplicates.request import DuplicatesRequest
from yeldro.core.duplicates.unique_index import check_request
from yeldro.core.model.schema import Reference, Table
from yeldro.core.run.preview import Preview
from yeldro.usecases.steps import Merging
from yeldro.usecases.transaction import looking

# Groups whose dependents are counted in one statement.
_GROUPS = 500


def duplicates(database: Database, request: DuplicatesRequest) -> Duplicates:
    """Find groups of duplicates, in a transaction that cannot change anything."""
    ranking = database.ranking.make_ranking(request.grouping)
    with looking(database):
        return find_duplicates(database, request, ranking)


@contextmanager
def duplicate_rows(database: Database, request: DuplicatesRequest) -> Iterator[Iterator[Row]]:
    """All rows of all groups: group, place and every column, streamed while the context is open."""
    ranking = database.ranking.make_ranking(request.grouping)
    with looking(database):
        database.ranking.rank(ranking)
        width = 2 + len(request.table.columns)
        yield (row[:width] for row in database.ranking.ranked_rows(ranking, None))


@contextmanager
def rows_to_decide(
    database: Database, request: DuplicatesRequest
) -> Iterator[Iterator[tuple[Row, Mapping[Reference, int]]]]:
    """The same rows, each with what depends on it, while the context is open."""
    ranking = database.ranking.make_ranking(request.grouping)
    references = [one for one in database.schema.incoming(request.table) if not one.broken]
    width = 2 + len(request.table.columns)
    with looking(database):
        database.ranking.rank(ranking)
        groups = database.ranking.first_groups(ranking, None)

        def list_rows() -> Iterator[tuple[Row, Mapping[Reference, int]]]:
            for start in range(0, len(groups), _GROUPS):
                part = groups[start : start + _GROUPS]
                counts = {
                    one: database.ranking.count_dependents(ranking, one, part) for one in references
                }
                for row in database.ranking.ranked_rows(ranking, part):
                    found = {
                        one: rows.get((int(row[0]), int(row[1])), 0) for one, rows in counts.items()
                    }
                    yield row[:width], {one: rows for one, rows in found.items() if rows}

        yield list_rows()


def merging(database: Database, request: DuplicatesRequest) -> Preview:
    """Find duplicates, and what removing the surplus rows would touch, in a transaction that cannot
    change anything."""
    check_request(database, request)
    job = Merging(database, request)
    job.prepare()
    with looking(database):
        return job.look(store=True)


def proposals(database: Database, table: Table) -> list[Proposal]:
    """Find what might make rows of a table the same, in a transaction that cannot change
    anything.
    """
    with looking(database):
        return propose_same(database, table)
