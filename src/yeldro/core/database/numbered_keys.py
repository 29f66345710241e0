"""What the core needs of a database to take many rows in batches: keys with a number each."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Protocol

from yeldro.core.database.archive_format import Stage
from yeldro.core.model.key_set import KeyRange, StoredKeys
from yeldro.core.selection.grouping import Ranking


class NumberedKeys(Protocol):
    """Outside of a transaction, but where it says otherwise. Numbers go from 1 in key order."""

    def only_matched(self, keys: StoredKeys) -> StoredKeys:
        """The matched rows of a key set, without those that depend on them."""
        ...

    def number(self, keys: StoredKeys, key: Sequence[str]) -> tuple[StoredKeys, int]:
        """The rows of a key set by a unique key, numbered, and how many they are."""
        ...

    def number_groups(
        self, ranking: Ranking, key: Sequence[str], after: int
    ) -> tuple[StoredKeys, int]:
        """All rows of the groups of a ranking, those of a group with one number, counting from
        `after` on, and how many groups there are."""
        ...

    def find_members(self, ranking: Ranking) -> StoredKeys:
        """All rows of the groups of a ranking."""
        ...

    def number_staged(self, stage: Stage) -> tuple[StoredKeys, int]:
        """The same of a stage, by its key."""
        ...

    def between(self, numbered: StoredKeys, first: int, last: int) -> KeyRange:
        """Those from one number to another, where they stand. Both numbers are there."""
        ...

    def take(self, numbered: StoredKeys, first: int, last: int) -> StoredKeys:
        """Those from one number to another."""
        ...

    def count(self, keys: StoredKeys) -> int:
        """How many keys a key set holds."""
        ...

    def remember(self) -> None:
        """Batches begin: what temporary tables there are by now stays when others are dropped."""
        ...

    def drop_others(self) -> None:
        """Between two batches: drop the temporary tables that were made since."""
        ...
