"""What the core found out, before anybody puts it into words."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from msgspec import Struct, field


class Fact(Struct, frozen=True):
    """A kind, and what it is about: tables, columns, counts, other facts. `yeldro.words` has a
    sentence for each kind."""

    kind: str
    about: Mapping[str, Any] = field(default_factory=dict)


def fact(kind: str, /, **about: Any) -> Fact:
    """`fact("whole-table", rows=6, table=table)`."""
    return Fact(kind, about)
