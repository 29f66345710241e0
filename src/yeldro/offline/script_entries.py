"""A script for a server that nobody connects to, as values: what is done, in order, and what must
be so. Texts of SQL are whole statements, or queries for one number, of one engine."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Say:
    """A comment. `step` begins a new step."""

    text: str
    step: bool = False


@dataclass(frozen=True, slots=True)
class Make:
    """A table with the columns of an empty query: a key table, or one that is `lasting`."""

    name: str
    query: str
    columns: tuple[str, ...]
    lasting: bool


@dataclass(frozen=True, slots=True)
class Fill:
    """A statement that may touch any number of rows."""

    statement: str


@dataclass(frozen=True, slots=True)
class Repeat:
    """Statements that are done again and again until none of them adds a row, each with a
    comment."""

    fills: Sequence[tuple[str, Fill]]


@dataclass(frozen=True, slots=True)
class Change:
    """A statement that must touch as many rows as the query `wanted` counts before it."""

    statement: str
    wanted: str
    message: str


@dataclass(frozen=True, slots=True)
class Check:
    """A query for 1 where something is wrong, 0 where all is well."""

    wrong: str
    message: str


@dataclass(frozen=True, slots=True)
class Finish:
    """A statement that ends a transaction in some engines, and so comes last."""

    statement: str


Entry = Say | Make | Fill | Repeat | Change | Check | Finish
