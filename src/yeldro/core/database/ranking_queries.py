"""What the core asks of a database about rows that are the same."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Protocol

from yeldro.core.database.abilities import Row
from yeldro.core.model.key_set import KeySet, StoredKeys
from yeldro.core.model.schema import Reference
from yeldro.core.selection.grouping import Grouping, Ranking, Rule


class RankingQueries(Protocol):
    """Groups of rows that are the same, ranked by what decides which stays."""

    def make_ranking(self, grouping: Grouping) -> Ranking:
        """An empty ranking, made before a transaction is opened for reading."""
        ...

    def rank(self, ranking: Ranking) -> int:
        """Put the selected rows into a ranking that are the same as another one.

        Ties between the rules fall to the lowest identity. Returns how many rows there are.
        """
        ...

    def number_groups(self, ranking: Ranking, into: StoredKeys, after: int = 0) -> int:
        """Put all rows of the groups into a key set by a unique key, each with the number of its
        group, counting from `after` on. Returns how many groups there are."""
        ...

    def choose(self, ranking: Ranking, chosen: Sequence[tuple[int, int]], *, only: bool) -> None:
        """Let the row at a place of a group be the one that stays. With `only`, all other groups
        are left out of the ranking."""
        ...

    def count_left_groups(self, ranking: Ranking) -> int:
        """How many groups of several rows there are now."""
        ...

    def count_decisions(self, ranking: Ranking, rules: Sequence[Rule], groups: int) -> list[int]:
        """In how many of all `groups` each rule decides, where those before it left several
        rows."""
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

    def count_dependents(
        self, ranking: Ranking, reference: Reference, groups: Sequence[int]
    ) -> dict[tuple[int, int], int]:
        """How many rows depend on those of some groups through a reference, by group and place."""
        ...

    def pair(self, ranking: Ranking, into: StoredKeys) -> int:
        """Put the surplus rows into an empty key set, each with the kept row's values where it has
        room for them."""
        ...

    def fill_kept(self, ranking: Ranking, into: StoredKeys, *, blanks: bool) -> int:
        """Put the kept rows with a NULL, or with `blanks` an empty text, in one of the columns
        `into.new` into an empty key set that some surplus row has a value for, with what each
        column will hold. Returns how many."""
        ...

    def count_kept(self, ranking: Ranking, keys: KeySet) -> int:
        """How many kept rows are in a key set."""
        ...
