"""Sets of keys inside the database."""

from __future__ import annotations

from dataclasses import dataclass

from yeldro.core.schema import Reference, Table


@dataclass(frozen=True, slots=True, eq=False)
class KeySet:
    """A temporary table of row identities of one table, inside the database.

    `columns` are the identity followed by every further column of the table that references point at, so that
    dependents can be found, and dangling references be looked for, after the rows themselves are gone.

    A key set that `hangs` has no table of its own: it is all rows that point into a stored key set through an enforced
    reference. Nothing references such rows, and nobody can add one while the rows that they point at are locked. One
    that is `whole` has none either: it is all rows of a table that is locked as a whole.
    """

    table: Table
    columns: tuple[str, ...]
    name: str
    hangs: tuple[Reference, KeySet] | None = None
    whole: bool = False
