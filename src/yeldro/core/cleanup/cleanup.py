"""A cleanup: named steps with parameters and guards, kept for reuse.

A step asks for what a command line asks for: its `options` are those of delete or dedupe.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from msgspec import Struct, field

from yeldro.core.run.seal import Seal


class Param(Struct, frozen=True):
    """A value that a person gives. `default` None: there is none. `allowed` are the only possible
    ones, () for any."""

    name: str
    type: str = "text"
    default: Any = None
    ask: str = ""
    allowed: tuple[Any, ...] = ()


class Step(Struct, frozen=True):
    """One deletion, or one removal of duplicates: `verb` is delete or dedupe, `options` what else
    the file says.

    `line` is where it begins in its file, 0 where it stands in none.
    """

    name: str
    verb: str
    table: str
    options: Mapping[str, Any] = field(default_factory=dict)
    line: int = 0

    @property
    def seal(self) -> Seal | None:
        found = self.options.get("seal")
        return Seal(**found) if found else None


class Cleanup(Struct, frozen=True):
    title: str = ""
    description: str = ""
    database: str = ""
    params: tuple[Param, ...] = ()
    guards: Mapping[str, Any] = field(default_factory=dict)
    steps: tuple[Step, ...] = ()


def as_list(value: Any) -> Sequence[str]:
    """One text, or several."""
    return [value] if isinstance(value, str) else list(value or ())
