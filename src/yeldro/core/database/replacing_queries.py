"""What the core asks of a database where rows take the place of others."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Protocol

from yeldro.core.database.abilities import Row
from yeldro.core.model.key_set import KeySet, Mark, StoredKeys
from yeldro.core.model.schema import Column, Reference, Unique
from yeldro.core.selection.grouping import Ranking


class ReplacingQueries(Protocol):
    """Rows that go, each beside the row that takes its place, and the values that change."""

    def lock_ranked(self, ranking: Ranking) -> None:
        """Keep others from changing the ranked rows until the end. Fails where somebody has since
        they were ranked."""
        ...

    def leave(self, images: StoredKeys, reference: Reference, gone: KeySet) -> None:
        """Take the rows out whose new value would point at a row that goes, or at the row
        itself.
        """
        ...

    def empty(self, keys: StoredKeys) -> None:
        """Empty a key set."""
        ...

    def remove(self, keys: StoredKeys, gone: StoredKeys) -> None:
        """Take the rows out of a key set that are in another one of the same table."""
        ...

    def repoint(
        self, reference: Reference, gone: KeySet, images: StoredKeys, filled: StoredKeys | None
    ) -> None:
        """Let the new values of a reference that points at a row that goes point at the one that
        takes its place.

        A row that would point at itself is taken off instead. One that points at a column which is
        NULL in that row gets what will be `filled` in there, and waits.
        """
        ...

    def count_images(self, images: StoredKeys) -> dict[Mark, int]:
        """How many rows of each kind a set with new values has."""
        ...

    def count_shifted(self, images: StoredKeys, columns: Sequence[str]) -> int:
        """How many rows get another value in one of these columns."""
        ...

    def count_still(self, reference: Reference, gone: KeySet, images: StoredKeys) -> int:
        """How many rows would still point at a row that goes, although it was replaced."""
        ...

    def count_loops(self, reference: Reference, images: Sequence[StoredKeys]) -> int:
        """How many rows with new values would depend on themselves through others. The first set
        with a row counts."""
        ...

    def find_collisions(
        self, images: StoredKeys, gone: KeySet, unique: Unique, into: StoredKeys
    ) -> int:
        """Put the rows with new values that would be like another row that stays, as to what is
        `unique`, into a set, each with the row that stays instead: one that has these values
        already, else the lowest key. Returns how many.
        """
        ...

    def can_hold(self, column: Column, value: str) -> bool:
        """Whether the type of a column takes a value, as SQL has it."""
        ...

    def find_cleared(self, keys: KeySet, images: StoredKeys, values: Mapping[str, str]) -> int:
        """Put the rows of a key set into one with new values: these, as SQL has them, by column.
        Rows that hold them already stay out, whatever else is equal to them. Returns how many."""
        ...

    def count_cleared(self, images: StoredKeys, columns: Sequence[str]) -> int:
        """How many rows hold exactly their new values in `columns` now."""
        ...

    def count_unfit(self, reference: Reference, images: StoredKeys) -> int:
        """How many rows with new values would point at no row through a reference."""
        ...

    def count_failing(self, images: StoredKeys, check: str) -> int | None:
        """How many rows with new values would not meet a CHECK constraint, None where the database
        cannot say."""
        ...

    def pass_on(self, gone: StoredKeys) -> int:
        """Where a row that takes the place of another goes itself, let the one that takes its place
        do. Returns how many that changed."""
        ...

    def list_pairs(self, keys: StoredKeys, limit: int) -> list[tuple[Row, Row]]:
        """What tells the first rows apart for a person, and those that take their place."""
        ...

    def count_otherwise(self, keys: StoredKeys, other: KeySet) -> int:
        """How many rows of two sets have other new values in the one than in the other."""
        ...

    def change(
        self,
        images: KeySet,
        columns: Sequence[str],
        waits: Sequence[str] = (),
        *,
        late: bool = False,
    ) -> int:
        """Give rows their new values in `columns`. Returns the database's own count.

        Rows that wait get NULL in `waits`; with `late`, they alone get what they waited for.
        """
        ...

    def count_changed(self, images: StoredKeys, columns: Sequence[str]) -> dict[Mark, int]:
        """How many rows of each kind have their new values in `columns` now."""
        ...
