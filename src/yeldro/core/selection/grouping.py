"""The rows of every group of duplicates in the order in which they would stay, inside the
database.
"""

from __future__ import annotations

from enum import StrEnum

from msgspec import Struct

from yeldro.core.model.schema import Family, Table
from yeldro.core.selection.condition import Condition
from yeldro.core.selection.selection import Selection


class Ignored(StrEnum):
    """A difference between two texts that does not count."""

    CASE = "case"
    SPACE = "space"
    ACCENTS = "accents"

    @property
    def plural(self) -> str:
        """As a sentence has it: "ignoring case and spaces"."""
        return "spaces" if self is Ignored.SPACE else self.value


class Same(Struct, frozen=True, eq=False):
    """A column, or an expression, whose value makes rows the same; of a text, but for what is
    ignored."""

    text: str
    column: str = ""
    expression: Condition | None = None
    ignored: frozenset[Ignored] = frozenset()


class RuleKind(StrEnum):
    FULLEST = "fullest"
    NEWEST = "newest"
    OLDEST = "oldest"
    HIGHEST = "highest"
    LOWEST = "lowest"
    WHERE = "where"


class Rule(Struct, frozen=True, eq=False):
    """Which of two rows rather stays. `text` is what was written. A NULL loses; ties go to the next
    rule."""

    text: str
    kind: RuleKind
    column: str = ""
    condition: Condition | None = None


class Grouping(Struct, frozen=True, eq=False):
    """Which rows are looked at, what makes them the same, and which of them stays, first rule
    first."""

    selection: Selection
    same: tuple[Same, ...]
    rules: tuple[Rule, ...] = ()
    nulls_differ: bool = True
    by_hand: bool = False
    """Whether a person decided row by row, for some groups at least."""

    @property
    def table(self) -> Table:
        return self.selection.table

    @property
    def is_whole(self) -> bool:
        """Whether rows must be alike in every column, so that it does not matter which of them
        stays."""
        columns = tuple(part.column for part in self.same if not part.ignored)
        return columns == self.table.column_names and not self.nulls_differ

    @property
    def is_decided(self) -> bool:
        """Whether it is said which row stays, or does not matter."""
        return bool(self.rules) or self.is_whole or self.by_hand

    @property
    def loose(self) -> tuple[Same, ...]:
        """Those of which something is ignored."""
        return tuple(part for part in self.same if part.ignored)

    @property
    def exact_texts(self) -> tuple[str, ...]:
        """Text columns that are compared by the database's own equality."""
        return tuple(
            part.column
            for part in self.same
            if part.column
            and not part.ignored
            and self.table.column(part.column).family is Family.TEXT
        )


class Ranking(Struct, frozen=True, eq=False):
    """A temporary table: the identity of each row of a group of several, the number of its group,
    and its place there.

    The row at place 1 stays. `plain` names a temporary table for each part of `same` of which
    something is ignored.
    """

    grouping: Grouping
    name: str
    plain: tuple[str, ...] = ()

    @property
    def table(self) -> Table:
        return self.grouping.table
