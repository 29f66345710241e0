"""The use cases that look: the place where an engine, the core and what was asked meet. Runs are in
`running`."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager

from yeldro.core.clearing.request import ClearRequest
from yeldro.core.database.abilities import Row
from yeldro.core.database.connection import Database
from yeldro.core.duplicates.groups import Duplicates, find_duplicates
from yeldro.core.duplicates.proposals import Proposal, propose_same
from yeldro.core.duplicates.request import DuplicatesRequest
from yeldro.core.duplicates.unique_index import check_request
from yeldro.core.model.key_set import StoredKeys
from yeldro.core.model.schema import Reference, Table, is_pattern
from yeldro.core.reach.explain import explaining
from yeldro.core.reach.reach import Stop, root_keys
from yeldro.core.reach.request import Request
from yeldro.core.reach.search import find_reach, tables_in_reach
from yeldro.core.review.statements import read_script
from yeldro.core.review.verdict import Review, make_review, read_removals, tables_in_review
from yeldro.core.run.preview import Preview, make_preview, sample_columns
from yeldro.core.survey.map import TableMap, make_map
from yeldro.core.survey.survey import TableSurvey, find_survey
from yeldro.errors import UsageError
from yeldro.usecases.steps import Clearing, Merging, read_rows
from yeldro.usecases.transaction import looking

# Groups whose dependents are counted in one statement.
_GROUPS = 500


def survey(database: Database, names: Sequence[str]) -> list[TableSurvey]:
    """Look at the whole database, or at those of its tables that fit some patterns, or closely at
    some that are named one by one."""
    tables = find_tables(database, names)
    closely = bool(names) and not any(map(is_pattern, names))
    with looking(database):
        return find_survey(database, tables, closely=closely)


def find_tables(database: Database, names: Sequence[str]) -> list[Table]:
    """The tables that were named, or all."""
    found = [table for name in names for table in database.schema.find_tables(name)]
    return list(dict.fromkeys(found)) if names else list(database.schema.tables)


def draw_map(database: Database, root: Table | None, request: Request | None) -> TableMap:
    """Map the database or what depends on `root`; with a request, with what its deletion would
    touch.
    """
    if request is None:
        return make_map(database.schema, root)
    return make_map(database.schema, root, preview(database, request).reach)


def preview(database: Database, request: Request) -> Preview:
    """Find what a deletion, or clearing, would touch, in a transaction that cannot change
    anything."""
    with _previewed(database, request) as found:
        return found


@contextmanager
def _previewed(database: Database, request: Request) -> Iterator[Preview]:
    """The same while the context is open."""
    if isinstance(request, ClearRequest):
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


def review(database: Database, text: str, dialect: str | None) -> Review:
    """Judge a script of statements, in a transaction that cannot change anything."""
    try:
        script = read_script(text, dialect or database.dialect)
    except ValueError:
        raise UsageError(
            f"There is no dialect {dialect!r}.", "Such as: sqlite, postgres, mysql, tsql, oracle."
        ) from None
    found = read_removals(database, script, database.dialect)
    database.prepare_key_sets(tables_in_review(database, found))
    with looking(database):
        return make_review(database, found)


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
