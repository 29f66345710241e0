"""Names for temporary tables of ours."""

from __future__ import annotations

import itertools
import re
import secrets
from collections.abc import Collection, Iterator

from yeldro.core.model.schema import Table


class Names(Iterator[str]):
    """Names that nobody else has; once they are to be shown, such that a person can tell the tables
    apart."""

    def __init__(self) -> None:
        self._mark = f"{secrets.token_hex(3)}_"
        self._numbers = itertools.count(1)
        self._taken: Collection[str] = ()

    def show(self, taken: Collection[str]) -> None:
        """From now on names stand in a script. `taken` are the names of tables, in lower case."""
        self._mark, self._taken = "", taken

    def __next__(self) -> str:
        return self._make("")

    def of(self, table: Table) -> str:
        """A name for what is of a table."""
        return self._make("" if self._mark else "_" + re.sub(r"\W+", "_", table.name.name)[:30])

    def _make(self, end: str) -> str:
        names = (f"yeldro_{self._mark}{number}{end}" for number in self._numbers)
        return next(name for name in names if name.lower() not in self._taken)
