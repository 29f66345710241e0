"""The reasons for which a run would be stopped before its first change."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from yeldro.core.cautions.caution import Caution
from yeldro.core.database.connection import Database
from yeldro.core.model.action import Action
from yeldro.core.model.fact import Fact, fact
from yeldro.core.model.key_set import StoredKeys, WholeTable
from yeldro.core.model.plural import percent
from yeldro.core.model.schema import ReferentialAction, Table
from yeldro.core.reach.reach import Part, Reach, Stop, describe_stop
from yeldro.core.selection.guards import Guards, check_enforced

_CARRYING = (
    ReferentialAction.CASCADE,
    ReferentialAction.SET_NULL,
    ReferentialAction.SET_DEFAULT,
)


def _is_whole_table(reach: Reach) -> bool:
    return reach.matched == reach.table_rows > 1 and not reach.selection.all_rows


def find_refusals(
    database: Database,
    guards: Guards,
    reach: Reach,
    cautions: Sequence[Caution],
    what: str = "row",
) -> Iterator[Fact]:
    """The reasons, the most telling first. `what` is matched: a row, or a surplus row."""
    table, rows = reach.selection.table, reach.matched
    if guards.expect and not guards.expect.holds(rows):
        found = fact("found.matching" if what == "row" else "found.there", rows=rows)
        expect, number = str(guards.expect), guards.expect.number
        yield fact(
            "refused.not-expected",
            expect=expect,
            number=number,
            what=what,
            table=table,
            found=found,
        )
    if _is_whole_table(reach):
        yield fact("refused.whole-table", rows=rows, table=table)
    for table in _find_pointed_at(reach):
        if hidden := database.schema.hidden.get(table.name):
            yield fact("refused.hidden", table=table, reason=hidden)
    yield from _find_carried_on(database, reach)
    known = {trigger.name for table in database.schema.tables for trigger in table.triggers}
    for name in sorted(guards.allow_trigger - known):
        yield fact("refused.no-trigger", name=name)
    if not guards.no_rollback:
        for reason in dict.fromkeys(_find_lasting(database, reach)):
            yield fact("refused.lasting", what=f"{reason[0].upper()}{reason[1:]}")
    yield from (_refuse(stop, clears=reach.cleared is not None) for stop in reach.stops)
    yield from find_excess(database, guards, reach)
    for caution in cautions:
        if caution.name in guards.strict:
            yield fact("refused.strict", caution=caution.found, name=caution.name)


def _find_pointed_at(reach: Reach) -> Iterator[Table]:
    """The tables that lose what other rows may point at. That is in an index."""
    yield from (keys.table for keys, rows in reach.deleted if rows)
    for change in reach.changes:
        indexed = {name for index in change.table.indexes for name in index.columns}
        if change.action is Action.CLEAR and indexed & set(change.columns):
            yield change.table


def _find_carried_on(database: Database, reach: Reach) -> Iterator[Fact]:
    """Rows into which the engine would carry a value on that the run changes, without counting
    them: the copy would not have them, and no tally."""
    if database.abilities.counts_cascades:
        return
    going = {keys.table: keys for keys, rows in reach.deleted if rows}
    for keys, columns in _find_changing(reach):
        for reference in database.schema.incoming(keys.table):
            if reference.on_update not in _CARRYING or not set(reference.referred) & columns:
                continue
            without = going.get(reference.child)
            if rows := database.count_referencing(reference, keys, without):
                yield fact(
                    "refused.carried",
                    rows=rows,
                    table=reference.child,
                    reference=str(reference),
                    rule=reference.on_update,
                )


def _find_changing(reach: Reach) -> Iterator[tuple[StoredKeys, set[str]]]:
    """Rows that stay, with the columns of them that change, those that are generated included.
    What points at a cleared column is part of the reach; what is filled was NULL."""
    for detachment in reach.detached:
        if detachment.rows:
            columns = {*detachment.treatment.columns, *_find_generated(detachment.keys.table)}
            yield detachment.keys, columns
    for change in reach.changes:
        if change.rows:
            own = change.columns if change.action is Action.MOVE else ()
            yield change.keys, {*own, *_find_generated(change.table)}


def _find_generated(table: Table) -> Iterator[str]:
    return (column.name for column in table.columns if column.generated)


def _refuse(stop: Stop, *, clears: bool) -> Fact:
    sentence = describe_stop(stop, stop.rows, clears=clears)
    if stop.lift:
        return fact("stop.lift", sentence=sentence, lift=stop.lift)
    return fact("stop.plain", sentence=sentence)


def _find_lasting(database: Database, reach: Reach) -> Iterator[str]:
    """What triggers may do that no rollback would take back."""
    for keys, rows in reach.deleted:
        if rows and not isinstance(keys, WholeTable):  # TRUNCATE runs no triggers
            yield from database.find_lasting(keys.table, None)
    for detachment in reach.detached:
        yield from database.find_lasting(detachment.reference.child, detachment.treatment.columns)
    for link in reach.links:
        yield from database.find_lasting(link.child, link.columns)
    for change in reach.changes:
        yield from database.find_lasting(change.table, change.columns)


def find_excess(
    database: Database, guards: Guards, reach: Reach, earlier: Sequence[Reach] = ()
) -> list[Fact]:
    """What is more than the guards allow, `earlier` reaches of the same run included, whose rows
    have gone already."""
    check_enforced(
        guards, ("expect", "max_rows", "max_share", "strict", "no_rollback", "allow_trigger")
    )
    found = []
    rows = reach.rows + sum(one.rows for one in earlier)
    if guards.max_rows is not None and rows > guards.max_rows:
        kind = "refused.too-many-in-all" if earlier else "refused.too-many"
        found.append(fact(kind, rows=rows, limit=guards.max_rows))
    if guards.max_share is None:
        return found
    for part in reach.parts:
        if part.action not in (Action.DELETE, Action.CLEAR) or not part.rows:
            continue
        before = sum(_count_rows(one, part) for one in earlier)
        whole = database.count_rows(part.table)
        whole += before if part.action is Action.DELETE else 0
        if 100 * (part.rows + before) / whole > guards.max_share:
            found.append(
                fact(
                    "refused.too-large-share",
                    rows=part.rows + before,
                    share=percent(part.rows + before, whole),
                    table=part.table,
                    limit=guards.max_share,
                )
            )
    return found


def _count_rows(reach: Reach, like: Part) -> int:
    """The rows of a reach to which the same happens as to a part of another."""
    parts = [part for part in reach.parts if part.table is like.table]
    return sum(part.rows for part in parts if part.action is like.action)
