"""The room that tables take on disk."""

from __future__ import annotations

from msgspec import Struct


class Space(Struct, frozen=True):
    """`place` is a table, or the whole file; `free` of its bytes new rows may take, None where
    nobody knows."""

    place: str
    size: int
    free: int | None = None
