"""What the statements of a script would do, one after the other: judged without changing
anything.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from msgspec import Struct, field

from yeldro.core.cautions.caution import Caution
from yeldro.core.cautions.of_condition import find_doubts
from yeldro.core.cautions.of_rows import whole_table
from yeldro.core.cautions.of_schema import find_schema_cautions
from yeldro.core.database.connection import Database
from yeldro.core.model.action import Action
from yeldro.core.model.fact import Fact, fact
from yeldro.core.model.key_set import StoredKeys
from yeldro.core.model.schema import Table
from yeldro.core.reach.reach import Part, Reach, Stop, describe_stop, root_keys
from yeldro.core.reach.rules import Rules
from yeldro.core.reach.search import find_reach, tables_in_reach
from yeldro.core.review.statements import Removal, Written, find_removals
from yeldro.errors import DatabaseFailed, Refused, UsageError, YeldroError

# Cautions that matter to somebody who runs the script without us.
_OF_TABLES = {"trigger", "row-security", "unenforced-reference"}


class Verdict(Struct, eq=False):
    """One statement judged. `doubts` are cautions about its condition, `cautions` those about its
    table; `faults` say why it cannot work as it stands, `notes` what is worth knowing. `unjudged`
    says why it could not be judged."""

    written: Written
    unjudged: str = ""
    reach: Reach | None = None
    doubts: list[Caution] = field(default_factory=list)
    cautions: list[Caution] = field(default_factory=list)
    faults: list[Fact] = field(default_factory=list)
    notes: list[Fact] = field(default_factory=list)
    after: list[Verdict] = field(default_factory=list)
    removals: list[Removal] = field(default_factory=list)

    @property
    def has_findings(self) -> bool:
        return bool(self.unjudged or self.doubts or self.faults)


class Review(Struct, frozen=True, eq=False):
    """`proposed` are the statements in the order in which they can work, () where theirs is
    fine.
    """

    verdicts: tuple[Verdict, ...]
    proposed: tuple[Written, ...]

    @property
    def has_findings(self) -> bool:
        return any(verdict.has_findings for verdict in self.verdicts)

    @property
    def in_order(self) -> list[Verdict]:
        """All verdicts, those that were judged in the order in which they can work."""
        places = {written: place for place, written in enumerate(self.proposed)}
        return sorted(self.verdicts, key=lambda one: places.get(one.written, -1))


def read_removals(
    database: Database, script: Sequence[Written], dialect: str
) -> list[tuple[Verdict, list[Removal]]]:
    """Every statement with what it removes. What cannot be judged says so in its verdict."""
    found: list[tuple[Verdict, list[Removal]]] = []
    for written in script:
        verdict, removals = Verdict(written, written.fault), list[Removal]()
        try:
            removals = [] if written.fault else find_removals(written, database.schema, dialect)
        except YeldroError as error:
            verdict.unjudged = error.message
        if len(removals) > 1:  # a TRUNCATE of several tables has the figures of each
            found += [(Verdict(written, removals=[removal]), [removal]) for removal in removals]
            continue
        verdict.removals = removals
        found.append((verdict, removals))
    return found


def tables_in_review(
    database: Database, found: Sequence[tuple[Verdict, list[Removal]]]
) -> list[Table]:
    """A table for each key set that a review may fill."""
    once: dict[Table, None] = {}
    tables: list[Table] = []
    for _, removals in found:
        for removal in removals:
            reached = tables_in_reach(database.schema, removal.selection.table, Rules(), store=True)
            tables += reached
            once.update(dict.fromkeys(reached))
    return [*tables, *once]


def make_review(database: Database, found: Sequence[tuple[Verdict, list[Removal]]]) -> Review:
    """Judge statements inside an open transaction, each after those before it."""
    gone: dict[Table, StoredKeys] = {}
    judged: list[tuple[Verdict, Removal]] = []
    for verdict, removals in found:
        for removal in removals:
            try:
                database.attempt(lambda v=verdict, r=removal: _judge(database, v, r))  # type: ignore[misc]
            except (UsageError, Refused, DatabaseFailed) as error:
                database.attempt(lambda: None)  # a connection that is lost ends the review
                verdict.reach = None
                verdict.unjudged = error.message
            if verdict.reach:
                _note_readers(verdict, removal, judged, gone)
                _follow(database, verdict, gone)
                judged.append((verdict, removal))
    _settle_stops(database, judged, gone)
    return Review(tuple(verdict for verdict, _ in found), tuple(_propose(judged)))


def _judge(database: Database, verdict: Verdict, removal: Removal) -> None:
    if removal.truncates:
        reach = _find_emptied(database, removal)
    else:
        reach = find_reach(database, removal.selection, Rules(), store=True)
    table, keys = removal.selection.table, root_keys(reach)
    verdict.reach = reach
    verdict.doubts += find_doubts(database, removal.selection, keys, expects_one=False)
    if reach.matched == reach.table_rows > 1:
        verdict.doubts.append(whole_table(table, reach.matched, "script"))
    for gone, rows in reach.deleted:
        hidden = database.schema.hidden.get(gone.table.name)
        if rows and hidden:
            verdict.faults.append(fact("refused.hidden", table=gone.table, reason=hidden))
    cautions = find_schema_cautions(database.schema, table)
    verdict.cautions += [caution for caution in cautions if caution.name in _OF_TABLES]
    if removal.copies and (groups := database.count_whole_groups(keys, removal.copies)):
        verdict.faults.append(
            fact("review.every-copy", groups=groups, columns=tuple(removal.copies))
        )
    if removal.truncates:
        _judge_truncate(database, verdict, removal)


def _judge_truncate(database: Database, verdict: Verdict, removal: Removal) -> None:
    incoming = database.schema.incoming(removal.selection.table)
    children = {
        reference.child.label for reference in incoming if reference.child not in removal.beside
    }
    if children:
        verdict.faults.append(fact("review.truncate-refused", children=sorted(children)))
    verdict.notes.append(fact("review.truncate"))


def _find_emptied(database: Database, removal: Removal) -> Reach:
    """All rows of a table: TRUNCATE acts on no dependents, it is refused or empties their tables
    too."""
    table = removal.selection.table
    keys = database.make_key_set(table)
    rows = database.match(removal.selection, keys)
    part = Part(table, Action.DELETE, rows, ())
    return Reach(removal.selection, rows, rows, ((keys, rows),), (), (), (), (part,), ())


def _note_readers(
    verdict: Verdict,
    removal: Removal,
    judged: Sequence[tuple[Verdict, Removal]],
    gone: dict[Table, StoredKeys],
) -> None:
    read = [table for table in removal.reads if table in gone]
    lines = [
        one.written.line
        for one, _ in judged
        if one.reach and any(_removes_from(one.reach, to) for to in read)
    ]
    if lines:
        tables = " and ".join(table.label for table in read)
        shown = " and ".join(map(str, dict.fromkeys(lines)))
        verdict.faults.append(fact("review.reads-removed", tables=tables, lines=shown))


def _removes_from(reach: Reach, table: Table) -> bool:
    return any(keys.table is table and rows for keys, rows in reach.deleted)


def _follow(database: Database, verdict: Verdict, gone: dict[Table, StoredKeys]) -> None:
    """Add what a statement removes to what is gone, and note how much of it was gone already."""
    reach = verdict.reach
    assert reach is not None
    for keys, rows in reach.deleted:
        if keys.table not in gone:
            gone[keys.table] = database.make_key_set(keys.table)
        added = database.merge(keys, gone[keys.table])
        if keys.table is reach.selection.table and rows and added < rows:
            verdict.notes.append(fact("review.gone-by-then", gone=rows - added, rows=rows))
    for stop in reach.stops:
        known = _count_blocking(database, verdict, stop, gone)
        left = stop.rows if known is None else known
        if left:
            verdict.faults.append(fact("stop.plain", sentence=describe_stop(stop, left), stop=stop))


def _settle_stops(
    database: Database, judged: Sequence[tuple[Verdict, Removal]], gone: dict[Table, StoredKeys]
) -> None:
    """Tell a stop that a later statement would lift from one that stays."""
    for place, (verdict, _) in enumerate(judged):
        following = [other for other, _ in judged[place + 1 :] if other is not verdict]
        for stop in verdict.reach.stops if verdict.reach else ():
            told = [fault for fault in verdict.faults if fault.about.get("stop") is stop]
            later = [one for one in following if one.reach and _removes_from(one.reach, stop.table)]
            if not told or not later or _count_blocking(database, verdict, stop, gone) != 0:
                continue
            verdict.after += later
            lines = " and ".join(str(other.written.line) for other in later)
            at = verdict.faults.index(told[0])
            sentence: Fact = told[0].about["sentence"]
            rows = sentence.about["rows"]
            verdict.faults[at] = fact("stop.later", sentence=sentence, lines=lines, rows=rows)


def _count_blocking(
    database: Database, verdict: Verdict, stop: Stop, gone: dict[Table, StoredKeys]
) -> int | None:
    """How many of the rows that block a statement are not gone by then, None where nobody can
    say."""
    via, deleted = stop.via, verdict.reach.deleted if verdict.reach else ()
    if via is None or via.broken:
        return None
    parents = next((keys for keys, _ in deleted if keys.table is via.parent), None)
    if parents is None:
        return None
    return database.count_referencing(via, parents, gone.get(via.child))


def _propose(judged: Sequence[tuple[Verdict, Removal]]) -> Iterator[Written]:
    """The order as it stands, but each statement after those that lift what blocks it; nothing
    where it is so now."""
    waiting = list(dict.fromkeys(verdict for verdict, _ in judged))
    if not any(verdict.after for verdict in waiting):
        return
    while waiting:
        free = [one for one in waiting if not any(other in one.after for other in waiting)]
        following = free[0] if free else waiting[0]
        waiting.remove(following)
        yield following.written
