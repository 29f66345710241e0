"""A deletion as it was asked for."""

from __future__ import annotations

from msgspec import Struct, field

from yeldro.core.reach.rules import Rules
from yeldro.core.selection.guards import Guards
from yeldro.core.selection.selection import Asked


class Request(Struct, frozen=True):
    """A deletion as it was asked for. `show` and `sample` (None: all) only decide what of the rows
    is shown."""

    asked: Asked
    rules: Rules = field(default_factory=Rules)
    guards: Guards = field(default_factory=Guards)
    show: tuple[str, ...] = ()
    sample: int | None = 10
