"""The account of one run: per table, rows before, expected, done and after. It must balance."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from typing import TypeVar

from msgspec import Struct
from msgspec.structs import replace

from yeldro.core.model.plural import count
from yeldro.core.model.schema import Table

_Told = TypeVar("_Told")


class Line(Struct, frozen=True, eq=False):
    """One table. `expected` is the sum of the rows that any action should touch, a row counting
    once an action.

    `dangling` counts the rows that point at a row that is gone. Restored rows are `inserted` or
    `reattached`; `differing` are the columns in which some of those that were put back are not as
    they were. What triggers deleted or changed is counted where they are allowed to.
    """

    table: Table
    before: int
    after: int
    to_delete: int = 0
    to_detach: int = 0
    deleted: int = 0
    detached: int = 0
    inserted_by_triggers: int = 0
    dangling: int = 0
    to_restore: int = 0
    inserted: int = 0
    reattached: int = 0
    to_move: int = 0
    moved: int = 0
    to_fill: int = 0
    filled: int = 0
    to_clear: int = 0
    cleared: int = 0
    deleted_by_triggers: int = 0
    changed_by_triggers: int = 0
    differing: tuple[str, ...] = ()
    by_engine: bool = False
    """Whether the database itself proves what became of the table, so that nothing was counted
    again."""

    def plus(self, later: Line) -> Line:
        """The same table after a later step too. What differed is that of the first."""
        apart = ("table", "before", "after", "differing", "by_engine")
        names = [name for name in Line.__struct_fields__ if name not in apart]
        sums = {name: getattr(self, name) + getattr(later, name) for name in names}
        by_engine = self.by_engine and later.by_engine
        return replace(self, after=later.after, by_engine=by_engine, **sums)

    @property
    def expected(self) -> int:
        changed = self.to_detach + self.to_move + self.to_fill + self.to_clear
        return self.to_delete + changed + self.to_restore

    @property
    def by_triggers(self) -> int:
        return self.inserted_by_triggers + self.deleted_by_triggers + self.changed_by_triggers

    @property
    def restored(self) -> int:
        """Rows that got their old selves back: those that were put back, and those that were
        attached again."""
        return self.inserted + self.reattached

    @property
    def balanced(self) -> bool:
        return not self.fault

    @property
    def fault(self) -> str:
        """What differs, in one sentence, or ""."""
        name = self.table.label
        for wanted, found, done, ending in (
            (self.to_delete, self.deleted, "deleted", " gone"),
            (self.to_detach, self.detached, "detached", ""),
            (self.to_move, self.moved, "moved", " where they should be"),
            (self.to_fill, self.filled, "filled", ""),
            (self.to_clear, self.cleared, "cleared", ""),
        ):
            if wanted != found:
                return f"{name}: {_were_to_be(wanted, done)}, {found:,} {_are(found)}{ending}"
        if self.restored != self.to_restore:
            where = f" ({', '.join(self.differing)} differs)" if self.differing else ""
            return (
                f"{name}: {_were_to_be(self.to_restore, 'restored')}, {self.restored:,} "
                f"{_are(self.restored)} as they were{where}"
            )
        # The sum says what single counts cannot: that no other row came or went in between.
        should = self.before - self.deleted + self.inserted
        if should + self.inserted_by_triggers - self.deleted_by_triggers != self.after:
            return (
                f"{name}: {count(should, 'row')} should be left, there {_are(self.after)} "
                f"{self.after:,}"
            )
        if self.dangling:
            point = "references" if self.dangling == 1 else "reference"
            return f"{name}: {count(self.dangling, 'row')} {point} a row that is gone"
        return ""


def _are(number: int) -> str:
    return "is" if number == 1 else "are"


def _were_to_be(number: int, done: str) -> str:
    """`1 row was to be deleted`, `2 rows were to be deleted`."""
    return f"{count(number, 'row')} {'was' if number == 1 else 'were'} to be {done}"


class Cause(Struct, frozen=True):
    """A trigger that may be behind a difference. `phrase` is for the end of a sentence."""

    trigger: str
    phrase: str


class Tally(Struct, frozen=True, eq=False):
    """`changed` is what the database itself counted during the run, `explained` what the lines
    account for.

    `odd` names the tables in which the two differ, where the database counts by table; `replaced`
    those that were emptied, rebuilt or dropped as a whole, which no count tells; `altered` those
    whose rows stay, and hold other values than they should in columns that were not to change.
    `allowed` names the triggers that may do more than the run itself, where only these did;
    `elsewhere` counts what they changed in tables that the database does not tell apart.
    """

    lines: tuple[Line, ...]
    changed: int
    explained: int
    odd: tuple[str, ...] = ()
    causes: tuple[Cause, ...] = ()
    replaced: tuple[str, ...] = ()
    altered: tuple[str, ...] = ()
    allowed: tuple[str, ...] = ()
    elsewhere: int = 0

    @property
    def balanced(self) -> bool:
        return not self.fault

    @property
    def fault(self) -> str:
        """The first difference with its likely cause, in one sentence, or ""."""
        fault = next((line.fault for line in self.lines if line.fault), "")
        if not fault and self.replaced:
            fault = (
                f"{', '.join(self.replaced)}: emptied, rebuilt or dropped as a whole during the run"
            )
        if not fault and self.altered and not self.allowed:
            fault = (
                f"{', '.join(self.altered)}: rows that stay were changed in more columns than they "
                "should"
            )
        # Each line may balance while something else was changed by the way.
        if not fault and self.changed != self.explained:
            fault = (
                f"the database counted {self.changed:,} changed rows, the tally explains "
                f"{self.explained:,}"
            )
            fault += f" ({', '.join(self.odd)})" if self.odd else ""
        if fault and self.causes:
            causes = " or ".join(cause.phrase for cause in self.causes)
            fault += f"; the likely cause is {causes}"
        return fault

    @property
    def hint(self) -> str:
        """What would let triggers do it that may be behind a fault, or ""."""
        names = ",".join(dict.fromkeys(cause.trigger for cause in self.causes))
        return f"If that is meant: --allow-trigger {names}" if names and self.fault else ""


def add_tallies(tallies: Sequence[Tally]) -> Tally:
    """The account of several steps of one run, one after the other: a line a table, from before the
    first of them to after the last."""
    lines: dict[Table, Line] = {}
    for tally in tallies:
        for line in tally.lines:
            known = lines.get(line.table)
            lines[line.table] = known.plus(line) if known else line

    def gather(read: Callable[[Tally], Iterable[_Told]]) -> tuple[_Told, ...]:
        return tuple(dict.fromkeys(name for tally in tallies for name in read(tally)))

    return Tally(
        tuple(lines.values()),
        sum(tally.changed for tally in tallies),
        sum(tally.explained for tally in tallies),
        gather(lambda tally: tally.odd),
        gather(lambda tally: tally.causes),
        gather(lambda tally: tally.replaced),
        gather(lambda tally: tally.altered),
        gather(lambda tally: tally.allowed),
        sum(tally.elsewhere for tally in tallies),
    )
