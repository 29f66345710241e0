"""Something that could be cleaned up, with the command that shows its rows."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from msgspec import Struct

from yeldro.core.model.fact import Fact
from yeldro.core.model.schema import Table


class Way(Struct, frozen=True):
    """A command on one table, with the values of its options by their names."""

    command: str
    table: Table
    options: Mapping[str, Any]


class Finding(Struct, frozen=True, eq=False):
    """`rows` could be cleaned up in a table. Where it took too long to look at all of it, only the
    first `sampled` rows were looked at, and there may be more; else `sampled` is 0."""

    rows: int
    found: Fact
    way: Way
    sampled: int = 0

    @property
    def table(self) -> Table:
        return self.way.table

    @property
    def name(self) -> str:
        """What it is called in a document: `orphans`, `blank`."""
        return self.found.kind.split(".")[1]


class Findings(Struct, frozen=True):
    """What was found, and the tables that were not looked at to the end in time."""

    found: tuple[Finding, ...]
    unseen: tuple[Table, ...]
