"""What a column holds, in figures."""

from __future__ import annotations

from enum import StrEnum
from typing import Any

from msgspec import Struct


class ColumnProfile(Struct, frozen=True):
    """What one column holds: NULLs, different values (without NULL), and the extremes.

    None where the database cannot tell: not every type can be counted apart, or put in order.
    """

    nulls: int
    distinct: int | None
    smallest: Any
    largest: Any


class Odd(StrEnum):
    """What a column may hold beside the values that its type speaks of."""

    TEXT = "a text"
    NUMBER = "a number"
    BYTES = "bytes"
    BLANK = "a blank text"
    NOT_A_DAY = "a text that is not a day in the form 2024-01-31"


class First(StrEnum):
    """Which values of a column come first."""

    MOST_COMMON = "most common"
    HIGHEST = "highest"
    LOWEST = "lowest"
