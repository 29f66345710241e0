"""What the core needs of a database. Each engine fulfils it; every operation is set-based and runs inside it."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from typing import Any, Protocol, TypeVar

from yeldro.core.archive import Form, Piece, Portion, Sink, Source, Stage, Standing
from yeldro.core.condition import Condition
from yeldro.core.keys import KeySet as KeySet
from yeldro.core.keys import Mark as Mark
from yeldro.core.ranking import Grouping, Ranking, Rule
from yeldro.core.schema import Column, Reference, Schema, Table, TableName
from yeldro.core.selection import Selection
from yeldro.core.traits import Abilities as Abilities
from yeldro.core.traits import Changes as Changes
from yeldro.core.traits import ColumnProfile as ColumnProfile
from yeldro.core.traits import Effect as Effect
from yeldro.core.traits import Mode as Mode
from yeldro.core.traits import Quirk as Quirk
from yeldro.core.traits import TableChanges as TableChanges
from yeldro.core.values import Value

Row = tuple[Any, ...]
T = TypeVar("T")


class Database(Protocol):
    """One open connection. Errors of the database come as DatabaseFailed, faults in a condition as UsageError."""

    name: str
    """How a person calls this database; never with a password."""

    dialect: str
    """The name of its SQL dialect for the parser of conditions."""

    abilities: Abilities
    schema: Schema

    encoding: str
    """The text encoding that an archive must have so that the engine can write it."""

    def close(self) -> None: ...

    def record(self, journal: Callable[[str], None] | None) -> None:
        """Tell every statement from now on to `journal`, until None is given."""
        ...

    def transcribe(self, scribe: Callable[[str, int | None], None] | None) -> None:
        """Tell every statement with its values, and how many rows it touched, to `scribe`, until None is given."""
        ...

    def write_settings(self) -> list[str]:
        """Statements that give another connection the settings of this one that a script depends on."""
        ...

    def exclude(self, name: str) -> None:
        """Keep others from excluding the same name until this connection is closed. Refused where somebody does.

        Where only one can write at a time it is enough that nobody does now.
        """
        ...

    # Transactions
    def begin(self, mode: Mode, alone: Sequence[Table] = ()) -> None:
        """Open a transaction; nobody else may use the tables `alone` until its end."""
        ...

    def commit(self) -> None:
        """Commit, and fail unless the database says that it did."""
        ...

    def rollback(self) -> None:
        """Undo everything since `begin`; nothing where no transaction is open."""
        ...

    def force_checks(self) -> None:
        """Have everything checked now that the database would only check at the commit."""
        ...

    def attempt(self, work: Callable[[], T]) -> T:
        """Do something inside the open transaction that may fail without ending it. Passes its error on."""
        ...

    # Looking
    def count_rows(self, table: Table) -> int: ...

    def profile(self, table: Table) -> list[ColumnProfile]:
        """What the columns hold, in column order."""
        ...

    def count_distinct(self, table: Table, columns: Sequence[str]) -> int:
        """How many different combinations of values these columns hold, NULLs counting as one value."""
        ...

    def count_fitting(self, child: Table, column: str, parent: Table, referred: str) -> tuple[int, int]:
        """How many different values a column holds, and how many of them stand in a column of another table."""
        ...

    def first_rows(self, table: Table, limit: int) -> list[Row]:
        """The first rows of a table or view, in key order where it has one."""
        ...

    def sample(self, keys: KeySet, columns: Sequence[str], limit: int | None) -> Iterator[Row]:
        """The matched rows of a key set in identity order, streamed. `limit` None: all of them."""
        ...

    def find_missing(self, listed: KeySet, limit: int) -> tuple[int, list[Row]]:
        """How many different keys of a list are not in the table, and the first of them in key order."""
        ...

    def count_nulls(self, table: Table, columns: Sequence[str], keys: KeySet | None) -> int:
        """How many rows, the matched ones of a key set or the whole table, hold a NULL in one of `columns`."""
        ...

    def count_ties(self, selection: Selection, keys: KeySet) -> int:
        """How many selected rows the limit left out although they are like the last of the matched ones in order."""
        ...

    def count_filled(self, keys: KeySet, columns: Sequence[str]) -> list[int]:
        """For each column, how many of the matched rows hold a value."""
        ...

    def count_steps(self, table: Table, conditions: Sequence[Condition]) -> list[int]:
        """For each condition, how many rows meet it and all those before it."""
        ...

    def try_count(self, table: Table, condition: Condition) -> int | None:
        """How many rows meet a condition of our own making, None where the database cannot run it."""
        ...

    def try_number(self, expression: Condition) -> int | None:
        """The number that an expression gives, None where the database cannot run it."""
        ...

    def find_spellings(self, keys: KeySet, column: str, limit: int) -> list[str]:
        """The values of a column among the matched rows that differ byte by byte."""
        ...

    def find_images(
        self, keys: KeySet, columns: Sequence[str], *, apart: bool, shown: Sequence[str] = ()
    ) -> Iterator[Row]:
        """For every row of a key set a text that is the same for two rows where the bytes of these columns are; 1, or
        with `apart` 0 for a row that was not matched itself; and the columns that are `shown`. Streamed, in no order.

        Rows that nothing tells apart have the text alone.
        """
        ...

    def sum_keys(self, keys: KeySet) -> int:
        """A sum over the first column of a stored key set, whole numbers: other keys hardly ever have the same."""
        ...

    def count_ends(self, keys: KeySet) -> int:
        """How many rows of a stored key set have the lowest or the highest value in its first column."""
        ...

    # Key sets

    def load_keys(self, table: Table, keys: Iterable[tuple[Value, ...]]) -> KeySet:
        """Send primary keys to the database, a batch at a time, outside of any transaction. One may come twice."""
        ...

    def prepare_key_sets(self, tables: Sequence[Table], new: Sequence[str] = ()) -> None:
        """Called before a transaction is opened for reading: key sets of these tables may be asked for in it."""
        ...

    def make_key_set(self, table: Table, new: Sequence[str] = ()) -> KeySet:
        """An empty key set; with `new`, with room for new values of these columns beside each row."""
        ...

    def match(self, selection: Selection, into: KeySet) -> int:
        """Put the identities of the selected rows into an empty key set. Returns how many."""
        ...

    def pull(
        self,
        reference: Reference,
        parents: KeySet,
        into: KeySet,
        *,
        round: int = 0,
        since: int | None = None,
        without: Sequence[KeySet] = (),
    ) -> int:
        """Put the rows that reference `parents` into `into`, marked with `round`; rows there or in `without` stay out.

        With `since`, only parents that were put in during that round count. Returns how many rows were put in.
        """
        ...

    def close_over(self, reference: Reference, keys: KeySet, *, round: int = 0) -> int:
        """Add all rows that hang on `keys` through a self-reference, at any depth. Returns how many."""
        ...

    def count_referencing(self, reference: Reference, parents: KeySet, without: KeySet | None) -> int:
        """How many rows that are not in `without` reference `parents`."""
        ...

    def hang(self, reference: Reference, parents: KeySet) -> tuple[KeySet, int]:
        """The key set of all rows that hang on `parents` through a reference, and how many these are.

        In a writing transaction every stored key set is filled before the first one that hangs is made.
        """
        ...

    def has_referencing(self, reference: Reference, parents: KeySet) -> bool:
        """Whether any row references `parents`."""
        ...

    def default_has_parent(self, reference: Reference, gone: KeySet | None) -> bool:
        """Whether the defaults of the reference's columns are NULL or those of a row that is not in `gone`."""
        ...

    def merge(self, keys: KeySet, into: KeySet) -> int:
        """Put the rows of a key set into a stored one of the same table. Returns how many were not there yet."""
        ...

    def count_whole_groups(self, keys: KeySet, columns: Sequence[str]) -> int:
        """How many groups of several rows with the same values in `columns` are in a key set whole."""
        ...

    def count_union(self, key_sets: Sequence[KeySet]) -> int:
        """How many different rows the key sets of one table hold together."""
        ...

    def count_beyond(self, keys: KeySet, other: KeySet) -> int:
        """How many rows of a key set are not in another, stored one of the same table."""
        ...

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
        """Keep others from changing the ranked rows until the end. Fails where somebody has since they were ranked."""
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
        """For each column, how many groups hold several spellings of a text that its collation makes one."""
        ...

    def count_groups(self, ranking: Ranking) -> tuple[int, int]:
        """How many groups there are, and how many rows they have together."""
        ...

    def count_sizes(self, ranking: Ranking) -> list[tuple[int, int]]:
        """How many groups there are of each size, by size."""
        ...

    def first_groups(self, ranking: Ranking, limit: int | None) -> list[int]:
        """The numbers of the first groups, in the order of what their rows have in common."""
        ...

    def ranked_rows(self, ranking: Ranking, groups: Sequence[int] | None) -> Iterator[Row]:
        """The rows of some groups, or of all: group, place, every column, what makes them the same, what each rule
        looked at."""
        ...

    def count_hanging(
        self, ranking: Ranking, reference: Reference, groups: Sequence[int]
    ) -> dict[tuple[int, int], int]:
        """How many rows hang on the rows of some groups through a reference, by group and place."""
        ...

    # Rows that take the place of others
    def pair(self, ranking: Ranking, into: KeySet) -> int:
        """Put the surplus rows into an empty key set, each with the kept row's values where it has room for them."""
        ...

    def fill_kept(self, ranking: Ranking, into: KeySet, *, blanks: bool) -> int:
        """Put the kept rows with a NULL, or with `blanks` an empty text, in one of the columns `into.new` into an empty
        key set that some surplus row has a value for, with what each column will hold. Returns how many."""
        ...

    def leave(self, images: KeySet, reference: Reference, gone: KeySet) -> None:
        """Take the rows out whose new value would point at a row that goes, or at the row itself."""
        ...

    def count_kept(self, ranking: Ranking, keys: KeySet) -> int:
        """How many kept rows are in a key set."""
        ...

    def clear(self, keys: KeySet) -> None:
        """Empty a key set."""
        ...

    def remove(self, keys: KeySet, gone: KeySet) -> None:
        """Take the rows out of a key set that are in another one of the same table."""
        ...

    def repoint(self, reference: Reference, gone: KeySet, images: KeySet, filled: KeySet | None) -> None:
        """Let the new values of a reference that points at a row that goes point at the one that takes its place.

        A row that would point at itself is taken off instead. One that points at a column which is NULL in that row
        gets what will be `filled` in there, and waits.
        """
        ...

    def count_images(self, images: KeySet) -> dict[Mark, int]:
        """How many rows of each kind a set with new values has."""
        ...

    def count_shifted(self, images: KeySet, columns: Sequence[str]) -> int:
        """How many rows get another value in one of these columns."""
        ...

    def count_still(self, reference: Reference, gone: KeySet, images: KeySet) -> int:
        """How many rows would still point at a row that goes, although it was replaced."""
        ...

    def count_loops(self, reference: Reference, images: Sequence[KeySet]) -> int:
        """How many rows with new values would hang on themselves through others. The first set with a row counts."""
        ...

    def find_collisions(self, images: KeySet, gone: KeySet, columns: Sequence[str], into: KeySet) -> int:
        """Put the rows with new values that would have the same unique `columns` as another row that stays into a set,
        each with the row that stays instead: one that has these values already, else the lowest key. Returns how many.
        """
        ...

    def pass_on(self, gone: KeySet) -> int:
        """Where a row that takes the place of another goes itself, let the one that takes its place do. Returns how
        many that changed."""
        ...

    def list_pairs(self, keys: KeySet, limit: int) -> list[tuple[Row, Row]]:
        """The identities of the first rows, and of those that take their place."""
        ...

    def count_otherwise(self, keys: KeySet, other: KeySet) -> int:
        """How many rows of two sets have other new values in the one than in the other."""
        ...

    def change(self, images: KeySet, columns: Sequence[str], waits: Sequence[str] = (), *, late: bool = False) -> int:
        """Give rows their new values in `columns`. Returns the database's own count.

        Rows that wait get NULL in `waits`; with `late`, they alone get what they waited for.
        """
        ...

    def count_changed(self, images: KeySet, columns: Sequence[str]) -> dict[Mark, int]:
        """How many rows of each kind have their new values in `columns` now."""
        ...

    # Copying rows out, and putting them back
    def find_form(self, column: Column) -> Form:
        """How the values of a column are kept in an archive."""
        ...

    def count_alike(self, keys: KeySet, columns: Sequence[str]) -> int:
        """How many rows of the table hold the same bytes in `columns` as some row of the key set."""
        ...

    def count_unset(self, keys: KeySet, columns: Sequence[str]) -> int:
        """How many rows of a key set hold a NULL in one of `columns`."""
        ...

    def extract(self, pieces: Sequence[Piece], sink: Sink) -> list[int]:
        """Copy rows into an archive, exactly those that the open transaction would delete. Returns how many."""
        ...

    def make_copy_table(self, name: TableName, portion: Portion, changed: Sequence[str]) -> None:
        """Make an empty table with the columns of a portion, in the database itself, and room for what the columns
        `changed` were left with."""
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

    def stand(self, stage: Stage) -> Standing:
        """How the staged rows stand against the table."""
        ...

    def keep_absent(self, stage: Stage) -> None:
        """Let the stage hold only rows whose keys are not in the table."""
        ...

    def make_staged_set(self, stage: Stage) -> KeySet:
        """An empty key set for rows of a stage, with its key and what references of other tables point at."""
        ...

    def pull_staged(self, stage: Stage, into: KeySet, reference: Reference | None, parents: KeySet) -> int:
        """Put the keys of staged rows that point at `parents`, or are among them, into a key set. Returns how many."""
        ...

    def keep_staged(self, stage: Stage, listed: KeySet) -> None:
        """Let the stage hold only rows whose keys are listed."""
        ...

    def count_parentless(self, reference: Reference, stage: Stage, parents: Sequence[Stage]) -> int:
        """How many staged rows point at a row that is neither in its table nor in one of the stages `parents`."""
        ...

    def insert(self, stage: Stage) -> int:
        """Put the staged rows into their table. Returns the database's own count."""
        ...

    def insert_together(self, stages: Sequence[Stage]) -> list[int]:
        """Put the rows of stages back whose tables reference each other in a circle."""
        ...

    def reattach(self, stage: Stage) -> int:
        """Give detached rows their references back where they are as the run left them. Returns how many."""
        ...

    def empty_waiting(self, stage: Stage) -> int:
        """Let columns be NULL for now that waited for others in the run. Returns how many rows changed."""
        ...

    def count_whole(self, stage: Stage) -> int:
        """How many staged rows are in the table with the same bytes."""
        ...

    def allow_orphans(self) -> None:
        """Before `begin`: rows that pointed at no row may be put back so, where the engine can let them."""
        ...

    def advance_counters(self, stages: Sequence[Stage]) -> None:
        """See that the database will not give out the numbers of rows that were put back."""
        ...

    # Changing
    def find_effects(self, table: Table, columns: Sequence[str] | None, event: str = "delete") -> tuple[Effect, ...]:
        """What triggers may do when these columns of `table` are updated, or, with `columns` None, at an `event`:
        when rows are deleted ("delete") or inserted ("insert")."""
        ...

    def build_index(self, reference: Reference) -> None:
        """Give a reference's columns an index until `drop_indexes`, where this account may."""
        ...

    def add_unique(self, grouping: Grouping, name: str) -> None:
        """Add a unique index on what makes rows the same."""
        ...

    def write_unique(self, grouping: Grouping, name: str) -> str:
        """The statement for that."""
        ...

    def drop_indexes(self) -> None:
        """Drop what `build_index` built. A rolled back transaction has nothing to drop."""
        ...

    def delete(self, keys: KeySet) -> int:
        """Delete the rows of a key set. Returns the database's own count, which leaves out what it cascaded."""
        ...

    def truncate(self, table: Table) -> int:
        """Empty a table that the transaction has `alone`. Returns how many rows the database counted for it."""
        ...

    def detach(self, reference: Reference, columns: Sequence[str], keys: KeySet, to_default: bool) -> int:
        """Set `columns` of the rows of a key set to NULL, or to their defaults. Returns the database's own count."""
        ...

    def unlink(self, reference: Reference, keys: KeySet) -> int:
        """Take a reference away from rows that are about to go, so that nothing hangs on their order.

        Its nullable columns become NULL; where it has none, a self-reference is pointed at its own row. Returns the
        database's own count.
        """
        ...

    def delete_together(self, key_sets: Sequence[KeySet]) -> int:
        """Delete the rows of key sets whose tables reference each other in a circle. Returns the count in total."""
        ...

    def find_changes(self) -> Changes:
        """What was changed through this connection so far, by us, by triggers and by cascades."""
        ...

    # Checking
    def count_present(self, keys: KeySet) -> int:
        """How many rows of a key set are in their table now."""
        ...

    def count_left(self, reference: Reference, parents: KeySet) -> int:
        """How many rows reference `parents` after these were deleted."""
        ...

    def count_lost(self, reference: Reference, parents: KeySet) -> int:
        """The same, but for rows that another row took over."""
        ...

    def count_detached(self, reference: Reference, columns: Sequence[str], keys: KeySet, to_default: bool) -> int:
        """How many rows of a key set have NULL, or the default, in all of `columns` now."""
        ...

    def count_dangling(self, reference: Reference, keys: KeySet) -> int:
        """How many rows of a key set hold a reference that points at no row."""
        ...
