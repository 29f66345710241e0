"""What triggers do to more rows than those of a run, where a person allows them to."""

from __future__ import annotations

from collections.abc import Iterable

from msgspec.structs import replace

from yeldro.core.database.abilities import Effect
from yeldro.core.database.change_counts import TableChanges
from yeldro.core.run.tally import Cause, Line, Tally


def find_allowed(causes: Iterable[Cause], allowed: frozenset[str]) -> tuple[str, ...]:
    """The triggers that may be behind a difference, if every one of them is allowed to."""
    names = dict.fromkeys(cause.trigger for cause in causes)
    return tuple(names) if allowed.issuperset(names) else ()


def credit(line: Line, counted: TableChanges | None, own: TableChanges) -> Line:
    """With the rows that triggers deleted or changed. `counted` is what the database counted in the
    table, None where it does not count by table; `own` what the run itself did there."""
    if counted is None:
        there = line.before - line.deleted + line.inserted + line.inserted_by_triggers
        return replace(line, deleted_by_triggers=max(0, there - line.after))
    return replace(
        line,
        deleted_by_triggers=max(0, counted.deleted - own.deleted),
        changed_by_triggers=max(0, counted.updated - own.updated),
    )


def share_out(tally: Tally, effects: Iterable[Effect]) -> Tally:
    """With the changes that no line explains, where triggers are allowed to make them, of a
    database that counts in total only: those of one table are told there, those of several
    together."""
    rest = tally.changed - tally.explained
    if not tally.allowed or rest <= 0:
        return tally
    tables = {effect.table for effect in effects if effect.verb != "insert"}
    if len(tables) != 1:
        return replace(tally, explained=tally.changed, elsewhere=rest)
    lines = [
        replace(line, changed_by_triggers=rest) if line.table in tables else line
        for line in tally.lines
    ]
    return replace(tally, lines=tuple(lines), explained=tally.changed)
