"""A script for a server that nobody connects to, as values: what is done, in order, and what must
be so. Texts of SQL are whole statements, or queries for one number, of one engine."""

from __future__ import annotations

from collections.abc import Sequence

from msgspec import Struct


class Say(Struct, frozen=True):
    """A comment. `step` begins a new step."""

    text: str
    step: bool = False


class Make(Struct, frozen=True):
    """A table with the columns of an empty query: a key table, or one that is `lasting`."""

    name: str
    query: str
    columns: tuple[str, ...]
    lasting: bool


class Fill(Struct, frozen=True):
    """A statement that may touch any number of rows."""

    statement: str


class Repeat(Struct, frozen=True):
    """Statements that are done again and again until none of them adds a row, each with a
    comment."""

    fills: Sequence[tuple[str, Fill]]


class Change(Struct, frozen=True):
    """A statement that must touch as many rows as the query `wanted` counts before it."""

    statement: str
    wanted: str
    message: str


class Check(Struct, frozen=True):
    """A query for 1 where something is wrong, 0 where all is well."""

    wrong: str
    message: str


class Finish(Struct, frozen=True):
    """A statement that ends a transaction in some engines, and so comes last."""

    statement: str


Entry = Say | Make | Fill | Repeat | Change | Check | Finish
