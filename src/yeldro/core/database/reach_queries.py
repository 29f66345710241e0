"""What the core needs of a database to look at rows, and to hold their keys."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from typing import Any, Protocol

from yeldro.core.database.abilities import Row
from yeldro.core.database.column_profile import ColumnProfile, First, Odd
from yeldro.core.model.key_set import DependentRows, KeyRange, KeySet, StoredKeys
from yeldro.core.model.schema import Column, Reference, Table
from yeldro.core.model.values import Value
from yeldro.core.selection.condition import Condition
from yeldro.core.selection.selection import Selection


class Looking(Protocol):
    """Counts, samples and key sets, inside the open transaction."""

    # Looking
    def count_rows(self, table: Table) -> int: ...

    def profile(self, table: Table) -> list[ColumnProfile]:
        """What the columns hold, in column order."""
        ...

    def find_odd(self, table: Table) -> dict[str, dict[Odd, int]]:
        """For each column that holds some, how many values of another kind than those that its type
        speaks of."""
        ...

    def count_distinct(self, table: Table, columns: Sequence[str]) -> int:
        """How many different combinations of values these columns hold, NULLs counting as one
        value."""
        ...

    def count_by_prefix(
        self, table: Table, column: str, length: int, keys: KeySet | None
    ) -> dict[str, int]:
        """How many rows there are by the first letters of a column as a text, in the table or among
        the matched ones of a key set; "" for NULL."""
        ...

    def count_fitting(
        self, child: Table, column: str, parent: Table, referred: str
    ) -> tuple[int, int]:
        """How many different values a column holds, and how many of them stand in a column of
        another table."""
        ...

    def first_rows(self, table: Table, limit: int) -> list[Row]:
        """The first rows of a table or view, in key order where it has one."""
        ...

    def sample(self, keys: KeySet, columns: Sequence[str], limit: int | None) -> Iterator[Row]:
        """The matched rows of a key set in identity order, streamed. `limit` None: all of them."""
        ...

    def find_missing(self, listed: StoredKeys, limit: int) -> tuple[int, list[Row]]:
        """How many distinct keys of a list are not in the table, and the first of them in key
        order."""
        ...

    def count_found(self, listed: StoredKeys) -> int:
        """How many rows there are with a key of a list."""
        ...

    def list_misses(self, listed: StoredKeys) -> Iterator[tuple[str, Row]]:
        """All of both, streamed in key order, each with a word for it: missing, repeated."""
        ...

    def find_repeated(self, listed: StoredKeys, limit: int) -> tuple[int, list[Row]]:
        """The same for keys that stand in the list several times."""
        ...

    def count_nulls(self, table: Table, columns: Sequence[str], keys: KeySet | None) -> int:
        """How many rows, the matched ones of a key set or the whole table, hold a NULL in one of
        `columns`."""
        ...

    def count_ties(self, selection: Selection, keys: KeySet) -> int:
        """How many selected rows the limit left out although they are like the last of the matched
        ones in order."""
        ...

    def count_filled(self, keys: KeySet, columns: Sequence[str]) -> list[int]:
        """For each column, how many of the matched rows hold a value."""
        ...

    def count_steps(self, table: Table, conditions: Sequence[Condition]) -> list[int]:
        """For each condition, how many rows meet it and all those before it."""
        ...

    def count_selected(self, selection: Selection) -> int:
        """How many rows are selected, whatever the limit."""
        ...

    def count_each(self, selection: Selection, conditions: Sequence[Condition]) -> list[int]:
        """How many rows are selected, and how many of them meet each condition by itself."""
        ...

    def count_values(self, selection: Selection, columns: Sequence[str]) -> list[int]:
        """For each column, how many values the selected rows hold, and how many distinct ones."""
        ...

    def write_odd(self, table: Table) -> list[tuple[str, Odd, str]]:
        """What may be of another kind than a column's type speaks of: the column, the kind, and the
        condition for it. Blank texts are not among them."""
        ...

    def find_values(
        self, table: Table, column: Column, condition: Condition | None, first: First, limit: int
    ) -> list[tuple[Any, int]]:
        """The first values of a column, among the rows that meet a condition, with how many rows
        have each; [] where the database cannot compare them so."""
        ...

    def find_labels(self, table: Table, column: Column) -> list[str]:
        """The values that the type of a column lists, [] where it lists none."""
        ...

    def find_key_at(self, table: Table, place: int) -> str | None:
        """The first part of the key at a place in key order, from 0 on; None where there are fewer
        rows."""
        ...

    def write_name(self, name: str) -> str:
        """The name of a column as a condition has it, in quotes where it needs them."""
        ...

    def try_count(self, table: Table, condition: Condition) -> int | None:
        """How many rows meet a condition of our own making, None where the database cannot run
        it.
        """
        ...

    def try_number(self, expression: Condition) -> int | None:
        """The number that an expression gives, None where the database cannot run it."""
        ...

    def find_spellings(self, keys: KeySet, column: str, limit: int) -> list[str]:
        """The values of a column among the matched rows that differ byte by byte."""
        ...

    def sum_keys(self, keys: KeySet) -> int:
        """A sum over the first column of a stored key set, whole numbers: other keys hardly ever
        have the same."""
        ...

    def count_ends(self, keys: KeySet) -> int:
        """How many rows of a stored key set have the lowest or the highest value in its first
        column."""
        ...

    # Key sets

    def load_keys(
        self, table: Table, columns: Sequence[str], keys: Iterable[tuple[Value, ...]]
    ) -> StoredKeys:
        """Send keys, values of unique columns, to the database, a batch at a time, outside of any
        transaction. One may come twice."""
        ...

    def prepare_key_sets(self, tables: Sequence[Table], new: Sequence[str] = ()) -> None:
        """Called before a transaction is opened for reading: key sets of these tables may be asked
        for in it."""
        ...

    def make_key_set(self, table: Table, new: Sequence[str] = ()) -> StoredKeys:
        """An empty key set; with `new`, with room for new values of these columns beside each
        row.
        """
        ...

    def match(self, selection: Selection, into: StoredKeys) -> int:
        """Put the identities of the selected rows into an empty key set. Returns how many."""
        ...

    def match_all(self, selection: Selection, listed: KeyRange) -> bool:
        """Whether every row of the range that a selection is narrowed to is there and selected. In
        a run the selected ones are locked, as those are that are put into a key set."""
        ...

    def pull(
        self,
        reference: Reference,
        parents: KeySet,
        into: StoredKeys,
        *,
        round: int = 0,
        since: int | None = None,
        without: Sequence[KeySet] = (),
        within: StoredKeys | None = None,
    ) -> int:
        """Put the rows that reference `parents` into `into`, marked with `round`; rows there or in
        `without` stay out, and so do those that are not `within`.

        With `since`, only parents that were put in during that round count. Returns how many rows
        were put in.
        """
        ...

    def close_over(self, reference: Reference, keys: StoredKeys, *, round: int = 0) -> int:
        """Add all rows that depend on `keys` through a self-reference, at any depth. Returns how
        many."""
        ...

    def count_referencing(
        self, reference: Reference, parents: KeySet, without: KeySet | None
    ) -> int:
        """How many rows that are not in `without` reference `parents`."""
        ...

    def count_most_referencing(self, reference: Reference, parents: KeySet) -> int:
        """How many rows reference the one of `parents` that most of them do."""
        ...

    def find_dependent(self, reference: Reference, parents: KeySet) -> tuple[DependentRows, int]:
        """The key set of all rows that depend on `parents` through a reference, and how many these
        are.

        In a writing transaction every stored key set is filled before the first one that depends is
        made.
        """
        ...

    def count_ringed(self, reference: Reference, keys: KeySet, rows: int) -> int:
        """How many of the `rows` of a stored key set can never go, because through a self-reference
        whose columns cannot be NULL they point at themselves or at each other in a cycle, or depend
        on rows that do."""
        ...

    def has_referencing(self, reference: Reference, parents: KeySet) -> bool:
        """Whether any row references `parents`."""
        ...

    def default_has_parent(self, reference: Reference, gone: KeySet | None) -> bool:
        """Whether the defaults of the reference's columns are NULL or those of a row that is not in
        `gone`."""
        ...

    def merge(self, keys: KeySet, into: StoredKeys) -> int:
        """Put the rows of a key set into a stored one of the same table. Returns how many were not
        there yet."""
        ...

    def count_whole_groups(self, keys: KeySet, columns: Sequence[str]) -> int:
        """How many groups of several rows with the same values in `columns` are in a key set
        whole.
        """
        ...

    def count_union(self, key_sets: Sequence[StoredKeys]) -> int:
        """How many different rows the key sets of one table hold together."""
        ...

    def count_beyond(self, keys: KeySet, *others: KeySet) -> int:
        """How many rows of a key set are in none of some other, stored ones of the same table."""
        ...
