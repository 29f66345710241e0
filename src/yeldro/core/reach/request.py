"""A deletion as it was asked for."""

from __future__ import annotations

from msgspec import Struct, field

from yeldro.core.reach.rules import Rules
from yeldro.core.selection.guards import Guards
from yeldro.core.selection.selection import Asked


class Request(Struct, frozen=True):
    """A deletion as it was asked for. `show`, `sample` (None: all) and `by_time` only decide what
    of the rows is shown."""

    asked: Asked
    rules: Rules = field(default_factory=Rules)
    guards: Guards = field(default_factory=Guards)
    show: tuple[str, ...] = ()
    sample: int | None = 10
    by_time: str = ""
    """A column by which what goes and what stays is counted, "" for none."""
