"""What a deletion would touch, and the reasons for which it would be stopped before its first change."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field

from yeldro.core.cautions import Caution, null_reference, unindexed_check, whole_table
from yeldro.core.database import Database, KeySet, Row
from yeldro.core.guards import Guards
from yeldro.core.reach import Action, Reach, Rules
from yeldro.core.schema import Reference
from yeldro.core.selection import Asked, Selection

# From here on building an index takes less time than the scans that it saves.
_MANY_CHECKS = 20
_LARGE_TABLE = 10_000
_MISSING = 100


@dataclass(frozen=True, slots=True)
class Request:
    """A deletion as it was asked for. `show` and `sample` (None: all) only decide what of the rows is shown."""

    asked: Asked
    rules: Rules = field(default_factory=Rules)
    guards: Guards = field(default_factory=Guards)
    show: tuple[str, ...] = ()
    sample: int | None = 10


@dataclass(frozen=True, slots=True, eq=False)
class Preview:
    """What a deletion would touch. `refusals` are the reasons for which it would be stopped before its first change.

    `missing` keys were asked for and are not in the table; `missing_keys` are the first of them.
    """

    database: str
    reach: Reach
    columns: tuple[str, ...]
    sample: tuple[Row, ...]
    missing: int
    missing_keys: tuple[Row, ...]
    cautions: tuple[Caution, ...]
    refusals: tuple[str, ...]
    scanned: tuple[Reference, ...] = ()
    """References that the engine would check by scanning a large table once for each of many deleted rows."""

    @property
    def selection(self) -> Selection:
        return self.reach.selection


def make_preview(database: Database, request: Request, reach: Reach) -> Preview:
    """Look at a reach whose key sets stand in the open transaction."""
    selection = reach.selection
    columns = sample_columns(selection, request.show)
    scanned = tuple(_find_scanned(database, reach))
    missing, missing_keys = database.find_missing(selection.listed, _MISSING) if selection.listed else (0, [])
    return Preview(
        database.name,
        reach,
        columns,
        tuple(database.sample(root_keys(reach), columns, request.sample)),
        missing,
        tuple(missing_keys),
        tuple(_cautions(database, reach, scanned)),
        tuple(_refusals(database, request.guards, reach)),
        scanned,
    )


def sample_columns(selection: Selection, show: Sequence[str]) -> tuple[str, ...]:
    """The columns of a sample: the key and what the selection looks at always, then those asked for, else all."""
    table = selection.table
    known = set(table.column_names)
    asked = [table.find_column(name).name for name in show] or list(table.column_names)
    return tuple(name for name in dict.fromkeys([*table.key, *selection.columns, *asked]) if name in known)


def root_keys(reach: Reach) -> KeySet:
    return next(keys for keys, _ in reach.deleted if keys.table is reach.selection.table)


def _is_whole_table(reach: Reach) -> bool:
    return reach.matched == reach.table_rows > 1 and not reach.selection.all_rows


def _find_scanned(database: Database, reach: Reach) -> Iterator[Reference]:
    for keys, rows in reach.deleted:
        for reference in database.schema.incoming(keys.table):
            checked = reference.declared and reference.enforced and not reference.broken
            scans = checked and not reference.is_indexed and rows >= _MANY_CHECKS
            if scans and database.count_rows(reference.child) >= _LARGE_TABLE:
                yield reference


def _cautions(database: Database, reach: Reach, scanned: Sequence[Reference]) -> Iterator[Caution]:
    if reach.matched == reach.table_rows > 1:
        yield whole_table(reach.selection.table, reach.matched, meant=reach.selection.all_rows)
    for match in reach.selection.matches:
        keys = None if match.found else root_keys(reach)
        if rows := database.count_nulls(reach.selection.table, match.columns, keys):
            yield null_reference(reach.selection.table, match.columns, rows, found=match.found)
    for reference in scanned:
        yield unindexed_check(reference)


def _refusals(database: Database, guards: Guards, reach: Reach) -> Iterator[str]:
    label = reach.selection.table.label
    if guards.expect and not guards.expect.holds(reach.matched):
        yield f"{guards.expect} rows of {label} were expected, {reach.matched:,} match."
    if _is_whole_table(reach):
        yield f"All {reach.matched:,} rows of {label} match; say --all-rows if that is meant."
    for stop in reach.stops:
        lift = f"; {stop.lift} would allow it" if stop.lift else ""
        yield f"{stop.rows:,} rows of {stop.table.label} forbid it through {stop.via} ({stop.reason}){lift}."
    if guards.max_rows is not None and reach.rows > guards.max_rows:
        yield f"The reach holds {reach.rows:,} rows, more than --max-rows {guards.max_rows:,}."
    if guards.max_share is not None:
        for part in reach.parts:
            if part.action is Action.DELETE and part.rows:
                share = 100 * part.rows / database.count_rows(part.table)
                if share > guards.max_share:
                    yield (
                        f"{part.rows:,} rows are {share:.1f} % of {part.table.label}, "
                        f"more than --max-share {guards.max_share:g}."
                    )
