"""A statement as it was sent."""

from __future__ import annotations

from enum import StrEnum

from msgspec import Struct


class Kind(StrEnum):
    """What a statement that was sent is for."""

    MAKE = "makes a temporary table"
    CHANGE = "changes rows, of a table or of a key table"
    LOCK = "locks rows"
    PLAIN = "does something else that matters"
    LOOK = "only looks, or matters to nobody else"


class Sent(Struct, frozen=True):
    """A statement as it was sent, with its values, and how many rows it touched. `name` is that of
    a table it makes."""

    kind: Kind
    text: str
    rows: int | None = None
    name: str = ""
