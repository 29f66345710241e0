"""What a deletion would touch, and the reasons for which it would be stopped before its first
change."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING

from msgspec import Struct
from msgspec.structs import replace

from yeldro.core.cautions.caution import Caution
from yeldro.core.cautions.hints import Part, find_hints, find_parts
from yeldro.core.cautions.no_match import NoMatch, find_no_matches
from yeldro.core.cautions.of_rows import (
    case_blind_groups,
    large_group,
    null_reference,
    reused_key,
    ties_at_limit,
    truncate,
    unindexed_check,
    whole_table,
)
from yeldro.core.cautions.of_schema import find_schema_cautions
from yeldro.core.database.abilities import Row
from yeldro.core.database.connection import Database
from yeldro.core.database.phase import Phase
from yeldro.core.duplicates.unique_index import is_special
from yeldro.core.model.action import Action
from yeldro.core.model.fact import Fact, fact
from yeldro.core.model.schema import Reference, Table
from yeldro.core.reach.reach import Reach, root_keys
from yeldro.core.reach.request import Request
from yeldro.core.reach.unindexed import count_looked_through
from yeldro.core.run.by_time import ByTime, count_by_time
from yeldro.core.run.refusals import find_refusals
from yeldro.core.selection.guards import Guards
from yeldro.core.selection.selection import Selection

if TYPE_CHECKING:
    from yeldro.core.duplicates.groups import Duplicates
    from yeldro.core.run.seal import Difference, Seal

# So many are listed one by one; the count tells the rest.
_MISSING = 100


# Cautions about a table that matter whenever a run touches it.
_OF_TABLES = {"trigger", "row-security", "unenforced-reference", "hidden-reference"}


class Scan(Struct, frozen=True):
    """A reference that the engine would check by looking through `rows` rows for each of `checks`
    deleted ones."""

    reference: Reference
    checks: int
    rows: int


class Preview(Struct, frozen=True, eq=False):
    """What a deletion would touch. `refusals` are the reasons for which it would be stopped before
    its first change.

    `missing` keys were asked for and are not in the table; `missing_keys` are the first of them;
    `repeated` keys were asked for several times.
    `duplicates` are those whose surplus rows would go. `step` is the name of a step, "" where there
    is none. `seal` is the seal of what a sealed step holds now, `difference` how that differs from
    what was sealed.
    """

    database: str
    reach: Reach
    columns: tuple[str, ...]
    sample: tuple[Row, ...]
    missing: int
    missing_keys: tuple[Row, ...]
    repeated: int
    cautions: tuple[Caution, ...]
    refusals: tuple[Fact, ...]
    parts: tuple[Part, ...] = ()
    hints: tuple[Fact, ...] = ()
    scanned: tuple[Scan, ...] = ()
    duplicates: Duplicates | None = None
    step: str = ""
    seal: Seal | None = None
    difference: Difference | None = None
    no_matches: tuple[NoMatch, ...] = ()
    """Where no row matches, what the columns hold instead."""

    by_time: ByTime | None = None
    title: str = ""
    """The database as it is shown to people."""

    @property
    def selection(self) -> Selection:
        return self.reach.selection


def make_preview(database: Database, request: Request, reach: Reach) -> Preview:
    """Look at a reach whose key sets stand in the open transaction."""
    selection = reach.selection
    database.announce(Phase.LOOKING, selection.table.label, None)
    columns = sample_columns(selection, request.show)
    sample = tuple(database.sample(root_keys(reach), columns, request.sample))
    scanned = tuple(_find_scanned(database, reach))
    cautions = tuple(_cautions(database, request, reach, scanned))
    missing, missing_keys = (
        database.find_missing(selection.listed, _MISSING) if selection.listed else (0, [])
    )
    return Preview(
        database.name,
        reach,
        columns,
        sample,
        missing,
        tuple(missing_keys),
        database.find_repeated(selection.listed, 0)[0] if selection.listed else 0,
        cautions,
        tuple(find_refusals(database, request.guards, reach, cautions)),
        find_parts(database, selection),
        (
            *_find_untouched(reach),
            *_find_allowed(request.guards),
            *find_hints(database, selection, root_keys(reach), reach.matched, columns, sample),
        ),
        scanned,
        by_time=count_by_time(database, root_keys(reach), request.by_time)
        if request.by_time
        else None,
        no_matches=tuple(
            find_no_matches(database, selection, reach.table_rows) if not reach.matched else ()
        ),
        title=database.title,
    )


def make_batch_preview(database: Database, limits: Guards, reach: Reach, shown: Preview) -> Preview:
    """What blocks a batch of the rows that were `shown`, and nothing that only a person wants to
    see."""
    guards = Guards(no_rollback=limits.no_rollback, allow_trigger=limits.allow_trigger)
    return replace(
        shown,
        reach=reach,
        sample=(),
        refusals=tuple(find_refusals(database, guards, reach, ())),
        scanned=tuple(_find_scanned(database, reach)),
    )


def _find_untouched(reach: Reach) -> Iterator[Fact]:
    """Rows that hold already what they would be left with."""
    if already := reach.matched - reach.touched:
        yield fact("hint.clear-already", already=already, matched=reach.matched)


def _find_allowed(guards: Guards) -> Iterator[Fact]:
    """What triggers do that a person allows is not taken back."""
    if guards.allow_trigger:
        yield fact("hint.allowed", triggers=", ".join(sorted(guards.allow_trigger)))


def make_merging_preview(database: Database, found: Duplicates, reach: Reach) -> Preview:
    """Look at the reach of surplus rows, whose key sets stand in the open transaction."""
    request = found.request
    scanned = tuple(_find_scanned(database, reach))
    cautions = (
        *find_group_cautions(found),
        *(unindexed_check(scan.reference, scan.checks, scan.rows) for scan in scanned),
        *_table_cautions(database, reach),
    )
    refusals = list(find_refusals(database, request.guards, reach, cautions, "surplus row"))
    hints = tuple(_find_allowed(request.guards))
    if request.unique_name:
        same = ", ".join(part.text for part in request.grouping.same)
        hints += (_foretell_index(database, found, same),)
        if found.blanks > 1 and not database.abilities.indexes_expressions:
            refusals.append(fact("refused.blanks", rows=found.blanks, same=same, same_word="same"))
    shown = Preview(
        database.name,
        reach,
        columns=(),
        sample=(),
        missing=0,
        missing_keys=(),
        repeated=0,
        cautions=cautions,
        refusals=tuple(refusals),
        hints=hints,
        title=database.title,
    )
    return replace(shown, scanned=scanned, duplicates=found)


def _foretell_index(database: Database, found: Duplicates, same: str) -> Fact:
    request, name = found.request, found.request.unique_name
    if is_special(request, found.blanks):
        blanks = found.blanks > 1
        written = database.write_unique(request.grouping, name, blanks_stay=blanks)
        return fact("hint.index-special", written=" ".join(written.split()))
    kind = "hint.index-after" if database.abilities.ddl_commits else "hint.index"
    return fact(kind, name=name, same=same)


def find_group_cautions(found: Duplicates) -> Iterator[Caution]:
    """What may be other than it seems about groups of duplicates."""
    for name, groups in found.merged:
        yield case_blind_groups(found.request.table, name, groups)
    if found.largest:
        same = ", ".join(part.text for part in found.request.grouping.same)
        yield large_group(found.request.table, same, found.largest)


def sample_columns(selection: Selection, show: Sequence[str]) -> tuple[str, ...]:
    """The columns of a sample: the key and what the selection looks at always, then those asked
    for, else all."""
    table = selection.table
    known = set(table.column_names)
    asked = [table.find_column(name).name for name in show] or list(table.column_names)
    return tuple(
        name for name in dict.fromkeys([*table.key, *selection.columns, *asked]) if name in known
    )


def _find_scanned(database: Database, reach: Reach) -> Iterator[Scan]:
    for keys, checks in reach.deleted:
        for reference in database.schema.incoming(keys.table):
            if rows := count_looked_through(database, reference, checks):
                yield Scan(reference, checks, rows)


def _cautions(
    database: Database, request: Request, reach: Reach, scanned: Sequence[Scan]
) -> Iterator[Caution]:
    selection, root = reach.selection, root_keys(reach)
    if selection.truncate:
        yield truncate(selection.table, database.abilities.truncates)
    expect = request.guards.expect
    expects_one = expect is not None and expect.low == expect.high == 1
    if selection.conditions:
        from yeldro.core.cautions.of_condition import find_doubts

        yield from find_doubts(database, selection, root, expects_one)
    if selection.limit is not None and reach.matched:
        if ties := database.count_ties(selection, root):
            names = [order.column for order in selection.order]
            yield ties_at_limit(selection.table, selection.limit, names, ties)
    if reach.matched == reach.table_rows > 1:
        meant = "meant" if selection.all_rows else "not-meant"
        variant = f"clear-{meant}" if reach.cleared else meant
        yield whole_table(selection.table, reach.matched, variant)
    for match in selection.matches:
        keys = None if match.found else root
        if rows := database.count_nulls(selection.table, match.columns, keys):
            yield null_reference(selection.table, match.columns, rows, found=match.found)
    for scan in scanned:
        yield unindexed_check(scan.reference, scan.checks, scan.rows)
    yield from _table_cautions(database, reach)


def _table_cautions(database: Database, reach: Reach) -> Iterator[Caution]:
    if reach.selection.restart_numbers:
        yield reused_key(reach.selection.table, "restart")
    for keys, rows in reach.deleted:
        if rows and not reach.selection.restart_numbers and database.gives_again(keys):
            yield reused_key(keys.table)
    touched: dict[Table, dict[str, None]] = {}
    for part in reach.parts:
        if part.rows:
            event = "DELETE" if part.action is Action.DELETE else "UPDATE"
            touched.setdefault(part.table, {})[event] = None
    for table, events in touched.items():
        own = _OF_TABLES | {"no-key"} if table is reach.selection.table else _OF_TABLES
        for caution in find_schema_cautions(database.schema, table, events):
            if caution.name in own:
                yield caution
