"""What the core needs of a database to copy rows out, and to put them back."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Protocol

from yeldro.core.database.abilities import Row
from yeldro.core.database.archive_format import Form, Piece, Portion, Sink, Source, Stage, Standing
from yeldro.core.model.key_set import KeySet, StoredKeys
from yeldro.core.model.schema import Column, Reference, Table, TableName


class ArchiveQueries(Protocol):
    """Exact copies, outside or in new tables, and what a restoration stages and compares."""

    def find_form(self, column: Column) -> Form:
        """How the values of a column are kept in an archive."""
        ...

    def count_alike(self, keys: KeySet, columns: Sequence[str]) -> int:
        """How many rows of the table hold the same bytes in `columns` as some row of the key
        set.
        """
        ...

    def count_unset(self, keys: KeySet, columns: Sequence[str]) -> int:
        """How many rows of a key set hold a NULL in one of `columns`."""
        ...

    def extract(self, pieces: Sequence[Piece], sink: Sink) -> list[int]:
        """Copy rows into an archive, exactly those that the open transaction would delete. Returns
        how many."""
        ...

    def extract_keys(self, portion: Portion, numbered: StoredKeys, sink: Sink) -> int:
        """Outside of a transaction, the same for a portion that holds nothing but `numbered` keys.
        The rows themselves are not looked at: some may be gone."""
        ...

    def make_copy_table(self, name: TableName, portion: Portion, changed: Sequence[str]) -> None:
        """Make an empty table with the columns of a portion, in the database itself, and room for
        what the columns `changed` were left with."""
        ...

    def write_copy_table(self, name: TableName, portion: Portion, changed: Sequence[str]) -> str:
        """The statement for that."""
        ...

    def write_copy(self, name: TableName, piece: Piece) -> str:
        """The statement that copies rows into such a table."""
        ...

    def drop_copy_table(self, name: TableName) -> None: ...

    def copy_into(self, name: TableName, piece: Piece) -> int:
        """Copy rows into such a table. Returns how many."""
        ...

    def stage(self, portion: Portion, source: Source) -> Stage:
        """Bring archived rows beside their table, outside of any transaction."""
        ...

    def drop_stage(self, stage: Stage) -> None:
        """Outside of a transaction: the rows need not stand beside their table any more."""
        ...

    def stand(self, stage: Stage) -> Standing:
        """How the staged rows stand against the table."""
        ...

    def count_beside(self, stage: Stage, earlier: Sequence[Stage]) -> tuple[int, int]:
        """How many rows of a stage of changed rows are in one of the `earlier` stages of the table
        too, by its key; and how many of them wait in both as the run left them."""
        ...

    def keep_absent(self, stage: Stage) -> None:
        """Let the stage hold only rows whose keys are not in the table."""
        ...

    def make_staged_set(self, stage: Stage) -> StoredKeys:
        """An empty key set for rows of a stage, with its key and what references of other tables
        point at."""
        ...

    def pull_staged(
        self, stage: Stage, into: StoredKeys, reference: Reference | None, parents: StoredKeys
    ) -> int:
        """Put the keys of staged rows that point at `parents`, or are among them, into a key set.
        Returns how many."""
        ...

    def keep_staged(self, stage: Stage, listed: StoredKeys) -> None:
        """Let the stage hold only rows whose keys are listed."""
        ...

    def count_parentless(self, reference: Reference, stage: Stage, parents: Sequence[Stage]) -> int:
        """How many staged rows point at a row that is neither in its table nor in one of the stages
        `parents`."""
        ...

    def insert(self, stage: Stage) -> int:
        """Put the staged rows into their table. Returns the database's own count."""
        ...

    def insert_together(self, stages: Sequence[Stage]) -> list[int]:
        """Put the rows of stages back whose tables reference each other in a cycle."""
        ...

    def reattach(self, stage: Stage) -> int:
        """Give detached rows their references back where they are as the run left them. Returns how
        many."""
        ...

    def empty_waiting(self, stage: Stage) -> int:
        """Let columns be NULL for now that waited for others in the run. Returns how many rows
        changed."""
        ...

    def count_whole(self, stage: Stage) -> int:
        """How many staged rows are in the table with the same bytes."""
        ...

    def find_differing(self, stage: Stage) -> list[str]:
        """The columns in which rows that are there under a staged key are other than the staged
        ones."""
        ...

    def digest_others(self, table: Table, stages: Sequence[Stage]) -> object:
        """What the rows of a table are that are in none of its stages: the same again where none of
        them changed."""
        ...

    def find_last_change(self, table: Table) -> int:
        """A mark for what this transaction has written to a table so far."""
        ...

    def count_touched(self, table: Table, stages: Sequence[Stage], since: int) -> int:
        """How many rows of a table that are in none of its stages were written in this transaction
        since a mark, where the database keeps that with each row."""
        ...

    def allow_orphans(self) -> None:
        """Before `begin`: rows that pointed at no row may be put back so, where the engine can let
        them."""
        ...

    def advance_counters(self, stages: Sequence[Stage]) -> None:
        """See that the database will not give out the numbers of rows that were put back."""
        ...

    def find_images(
        self, keys: KeySet, columns: Sequence[str], *, apart: bool, shown: Sequence[str] = ()
    ) -> Iterator[Row]:
        """For every row of a key set a text that is the same for two rows where the bytes of these
        columns are; 1, or with `apart` 0 for a row that was not matched itself; and the columns
        that are `shown`. Streamed, in no order.

        Rows that nothing tells apart have the text alone.
        """
        ...
