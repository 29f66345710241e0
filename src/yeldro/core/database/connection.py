"""What the core needs of a database. Each engine fulfils it; every operation is set-based and runs
inside it."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Sequence
from contextlib import AbstractContextManager
from typing import Protocol, TypeVar

from yeldro.core.database.abilities import Abilities, Effect, Mode
from yeldro.core.database.archive_queries import ArchiveQueries
from yeldro.core.database.change_counts import Changes
from yeldro.core.database.followers import Sighting
from yeldro.core.database.numbered_keys import NumberedKeys
from yeldro.core.database.phase import Announce
from yeldro.core.database.ranking_queries import RankingQueries
from yeldro.core.database.reach_queries import Looking
from yeldro.core.database.replacing_queries import ReplacingQueries
from yeldro.core.database.sent import Sent
from yeldro.core.database.space import Space
from yeldro.core.model.key_set import KeySet, StoredKeys
from yeldro.core.model.schema import Reference, Schema, Table, TableName
from yeldro.core.model.shape import Shape
from yeldro.core.selection.grouping import Grouping
from yeldro.core.selection.selection import Selection

T = TypeVar("T")


class Database(Looking, Protocol):
    """One open connection. Errors of the database come as DatabaseFailed, faults in a condition as
    UsageError."""

    name: str
    """How a person calls this database; never with a password."""

    title: str
    """The same with its address beside it, as it is shown to people."""

    dialect: str
    """The name of its SQL dialect for the parser of conditions."""

    abilities: Abilities
    schema: Schema

    shape: Shape
    """What the tables were made of right before the schema was read. Empty where the connection
    was opened to look only."""

    announce: Announce
    """Whoever is told what the database is busy with."""

    encoding: str
    """The text encoding that an archive must have so that the engine can write it."""

    @property
    def ranking(self) -> RankingQueries: ...

    @property
    def numbered(self) -> NumberedKeys: ...

    @property
    def replacing(self) -> ReplacingQueries: ...

    @property
    def archive(self) -> ArchiveQueries: ...

    def close(self) -> None: ...

    def record(self, journal: Callable[[str], None] | None) -> None:
        """Tell every statement from now on to `journal`, until None is given."""
        ...

    def transcribe(self, scribe: Callable[[Sent], None] | None) -> None:
        """Tell every statement with its values to `scribe`, until None is given."""
        ...

    @property
    def note(self) -> str:
        """What a person should know about how it was looked at, "" for nothing."""
        ...

    def check_rights(
        self, deleted: Sequence[Table], changed: Sequence[tuple[Table, Sequence[str]]]
    ) -> None:
        """DatabaseFailed that names a right which a run would miss: to delete rows of some tables,
        and to change these columns of others."""
        ...

    def allow_functions(self, names: Iterable[str]) -> None:
        """Conditions may call these, whatever they do: the person knows them."""
        ...

    def write_for_people(self) -> None:
        """From now on write statements as a person would: temporary tables with names that tell
        what they hold, and no schema in front of a name that needs none."""
        ...

    def write_settings(self) -> list[str]:
        """Statements that give another connection the settings of this one that a script depends
        on."""
        ...

    def exclude(self, name: str) -> None:
        """Keep others from excluding the same name until this connection is closed. Refused where
        somebody does.

        Where only one can write at a time it is enough that nobody does now.
        """
        ...

    def limited(self, seconds: float) -> AbstractContextManager[None]:
        """Until its end, outside of any transaction, a statement that takes longer ends with
        TookTooLong."""
        ...

    cluster: str
    """What a cluster calls itself and this database, "" where this server is in none."""

    def find_position(self) -> int | None:
        """How far this server has come, as those that follow it count, None where they do not."""
        ...

    def find_followers(self) -> Sequence[Sighting]:
        """Those that it knows of itself."""
        ...

    def find_shape(self, tables: Collection[TableName]) -> Shape:
        """What these tables are made of now; more may be told."""
        ...

    # Transactions
    mode: Mode | None
    """That of the open transaction."""

    def begin(self, mode: Mode, alone: Sequence[Table] = (), held: Sequence[Table] = ()) -> None:
        """Open a transaction; nobody else may use the tables `alone` until its end, or change
        the definition of those `held`."""
        ...

    def end_look(self, kept: Sequence[KeySet]) -> None:
        """End a transaction that only looked, so that nothing is left of it but these key sets."""
        ...

    def commit(self) -> None:
        """Commit, and fail unless the database says that it did: with NotCommitted where it says
        that it did not."""
        ...

    def find_transaction(self) -> str:
        """The number of the open transaction by which the database tells later how it ended, ""
        where it has none."""
        ...

    def find_version(self) -> int | None:
        """What stays the same in the transactions of this connection as long as no other one
        writes, None where the database has no such thing."""
        ...

    def find_ending(self, transaction: str) -> bool | None:
        """Whether a transaction was committed, None where the database does not know it any more,
        or not yet."""
        ...

    def find_lag(self) -> str:
        """Why this server may not know the latest changes, as a clause; "" where it does."""
        ...

    def drop_unique(self, table: Table, name: str) -> None:
        """Drop a unique index of a table, outside of a transaction where that would end one."""
        ...

    def rollback(self) -> None:
        """Undo everything since `begin`; nothing where no transaction is open."""
        ...

    def force_checks(self) -> None:
        """Have everything checked now that the database would only check at the commit."""
        ...

    def attempt(self, work: Callable[[], T]) -> T:
        """Do something inside the open transaction that may fail without ending it. Passes its
        error on."""
        ...

    # Changing
    def find_effects(
        self, table: Table, columns: Sequence[str] | None, event: str = "delete"
    ) -> tuple[Effect, ...]:
        """What triggers may do when these columns of `table` are updated, or, with `columns` None,
        at an `event`: when rows are deleted ("delete") or inserted ("insert")."""
        ...

    def find_lasting(
        self, table: Table, columns: Sequence[str] | None, event: str = "delete"
    ) -> list[str]:
        """What triggers may do in the same cases that no rollback would take back, each as a
        clause."""
        ...

    def build_index(self, reference: Reference) -> None:
        """Give a reference's columns an index until `drop_indexes`, where this account may and it
        did not before."""
        ...

    def add_unique(self, grouping: Grouping, name: str, *, blanks_stay: bool = False) -> None:
        """Add a unique index on what makes rows the same, by the engine's own rules for case and
        blanks where these are ignored. With `blanks_stay`, blank texts are left out of it."""
        ...

    def write_unique(self, grouping: Grouping, name: str, *, blanks_stay: bool = False) -> str:
        """The statement for that."""
        ...

    def drop_indexes(self) -> None:
        """Drop what `build_index` built. A rolled back transaction has nothing to drop."""
        ...

    def delete(self, keys: KeySet) -> int:
        """Delete the rows of a key set. Returns the database's own count, which leaves out what it
        cascaded."""
        ...

    def gives_again(self, keys: KeySet) -> bool:
        """Whether the database itself gives the number of one of these rows to a new one once it is
        gone."""
        ...

    def delete_selected(self, selection: Selection, keys: KeySet) -> int:
        """The same for the rows that a selection lists, of those that meet its conditions."""
        ...

    def truncate(self, table: Table, *, restart: bool = False) -> int:
        """Empty a table that the transaction has `alone`; with `restart` new rows are numbered from
        the start. Returns how many rows the database counted for it."""
        ...

    def detach(
        self, reference: Reference, columns: Sequence[str], keys: KeySet, to_default: bool
    ) -> int:
        """Set `columns` of the rows of a key set to NULL, or to their defaults. Returns the
        database's own count."""
        ...

    def unlink(self, reference: Reference, keys: KeySet) -> int:
        """Take a reference away from rows that are about to go, so that nothing depends on their
        order.

        Its nullable columns become NULL; where it has none, a self-reference is pointed at its own
        row. Returns the database's own count.
        """
        ...

    def delete_together(self, key_sets: Sequence[KeySet]) -> int:
        """Delete the rows of key sets whose tables reference each other in a cycle. Returns the
        count in total."""
        ...

    def find_changes(self) -> Changes:
        """What was changed through this connection so far, by us, by triggers and by cascades."""
        ...

    def measure_log(self) -> int | None:
        """How many bytes the server has written to its log, by whomever; None where nobody
        counts."""
        ...

    # Afterwards
    def measure(self, tables: Sequence[Table]) -> Sequence[Space]:
        """What tables take on disk; of SQLite the whole file."""
        ...

    def write_analyze(self, tables: Sequence[Table]) -> Sequence[str]:
        """The statements that renew the planner's figures."""
        ...

    def analyze(self, tables: Sequence[Table]) -> None:
        """Send them."""
        ...

    # Checking
    def keeps(self, reference: Reference) -> bool:
        """Whether the database checks an enforced reference while rows go, so that it refuses to
        leave any that point at nothing; not where its checks were off, or wait for the commit."""
        ...

    def count_present(self, keys: KeySet) -> int:
        """How many rows of a key set are in their table now."""
        ...

    def count_left(self, reference: Reference, parents: KeySet) -> int:
        """How many rows reference `parents` after these were deleted."""
        ...

    def count_lost(self, reference: Reference, parents: KeySet) -> int:
        """The same, but for rows that another row took over."""
        ...

    def count_detached(
        self, reference: Reference, columns: Sequence[str], keys: StoredKeys, to_default: bool
    ) -> int:
        """How many rows of a key set have NULL, or the default, in all of `columns` now."""
        ...

    def count_dangling(self, reference: Reference, keys: KeySet) -> int:
        """How many rows of a key set hold a reference that points at no row."""
        ...
