"""What the core needs of a database where one row takes the place of others."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Protocol

from yeldro.core.database.abilities import Row
from yeldro.core.model.key_set import KeySet, Mark, StoredKeys
from yeldro.core.model.schema import Reference, Unique
from yeldro.core.selection.grouping import Grouping, Ranking, Rule


class Replacing(Protocol):
    """Groups of duplicates, and the rows that are moved, filled or dropped for them."""

    # Duplicates
    def make_ranking(self, grouping: Grouping) -> Ranking:
        """An empty ranking, made before a transaction is opened for reading."""
        ...

    def rank(self, ranking: Ranking) -> int:
        """Put the selected rows into a ranking that are the same as another one.

        Ties between the rules fall to the lowest identity. Returns how many rows there are.
        """
        ...

    def lock_ranked(self, ranking: Ranking) -> None:
        """Keep others from changing the ranked rows until the end. Fails where somebody has since
        they were ranked."""
        ...

    def count_left_groups(self, ranking: Ranking) -> int:
        """How many groups of several rows there are now."""
        ...

    def count_decisions(self, ranking: Ranking, rules: Sequence[Rule]) -> list[int]:
        """In how many groups each rule decides, where those before it left several rows."""
        ...

    def count_choices(self, ranking: Ranking, rules: Sequence[Rule]) -> list[int]:
        """In how many groups each rule alone tells rows apart."""
        ...

    def find_choices(self, ranking: Ranking, rule: Rule, groups: Sequence[int]) -> dict[int, int]:
        """The place of the row that a rule alone would keep, for each of some groups."""
        ...

    def count_merged(self, ranking: Ranking, columns: Sequence[str]) -> list[int]:
        """For each column, how many groups hold several spellings of a text that its collation
        makes one."""
        ...

    def count_groups(self, ranking: Ranking) -> tuple[int, int]:
        """How many groups there are, and how many rows they have together."""
        ...

    def count_left_out(self, ranking: Ranking) -> tuple[int, int]:
        """How many of the rows that are looked at have a NULL, and how many others a blank text, in
        what would make them the same, where these equal nothing."""
        ...

    def count_sizes(self, ranking: Ranking) -> list[tuple[int, int]]:
        """How many groups there are of each size, by size."""
        ...

    def first_groups(self, ranking: Ranking, limit: int | None) -> list[int]:
        """The numbers of the first groups, in the order of what their rows have in common."""
        ...

    def ranked_rows(self, ranking: Ranking, groups: Sequence[int] | None) -> Iterator[Row]:
        """The rows of some groups, or of all: group, place, every column, what makes them the same,
        what each rule looked at."""
        ...

    def count_hanging(
        self, ranking: Ranking, reference: Reference, groups: Sequence[int]
    ) -> dict[tuple[int, int], int]:
        """How many rows depend on those of some groups through a reference, by group and place."""
        ...

    # Rows that take the place of others
    def pair(self, ranking: Ranking, into: StoredKeys) -> int:
        """Put the surplus rows into an empty key set, each with the kept row's values where it has
        room for them."""
        ...

    def fill_kept(self, ranking: Ranking, into: StoredKeys, *, blanks: bool) -> int:
        """Put the kept rows with a NULL, or with `blanks` an empty text, in one of the columns
        `into.new` into an empty key set that some surplus row has a value for, with what each
        column will hold. Returns how many."""
        ...

    def leave(self, images: StoredKeys, reference: Reference, gone: KeySet) -> None:
        """Take the rows out whose new value would point at a row that goes, or at the row
        itself.
        """
        ...

    def count_kept(self, ranking: Ranking, keys: KeySet) -> int:
        """How many kept rows are in a key set."""
        ...

    def clear(self, keys: StoredKeys) -> None:
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

    def pass_on(self, gone: StoredKeys) -> int:
        """Where a row that takes the place of another goes itself, let the one that takes its place
        do. Returns how many that changed."""
        ...

    def list_pairs(self, keys: StoredKeys, limit: int) -> list[tuple[Row, Row]]:
        """The identities of the first rows, and of those that take their place."""
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
