"""The rows of every group of duplicates in the order in which they would stay, inside the database."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

from yeldro.core.condition import Condition
from yeldro.core.schema import Table


class RuleKind(StrEnum):
    FULLEST = "fullest"
    NEWEST = "newest"
    OLDEST = "oldest"
    HIGHEST = "highest"
    LOWEST = "lowest"
    WHERE = "where"


@dataclass(frozen=True, slots=True, eq=False)
class Rule:
    """Which of two rows rather stays. `text` is what was written. A NULL loses; ties go to the next rule."""

    text: str
    kind: RuleKind
    column: str = ""
    condition: Condition | None = None


@dataclass(frozen=True, slots=True, eq=False)
class Ranking:
    """A temporary table: the identity of each row of a group of several, the number of its group, and its place there.

    The row at place 1 stays.
    """

    table: Table
    name: str
