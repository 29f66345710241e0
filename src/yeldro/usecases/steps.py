"""The steps of a run: what each looks for, and what is left to do when it is done."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Protocol

from msgspec.structs import replace

from yeldro.core.clearing.reach import find_clearing, prepare_clearing
from yeldro.core.clearing.request import ClearRequest, read_columns
from yeldro.core.clearing.rules import make_rules
from yeldro.core.database.connection import Database
from yeldro.core.duplicates.groups import find_duplicates
from yeldro.core.duplicates.reach import find_merging, prepare_merging
from yeldro.core.duplicates.request import DuplicatesRequest
from yeldro.core.duplicates.unique_index import check_request
from yeldro.core.model.action import Action
from yeldro.core.model.key_set import KeySet, StoredKeys, stored
from yeldro.core.model.schema import Reference, Table
from yeldro.core.reach.explain import explaining
from yeldro.core.reach.reach import Reach, root_keys
from yeldro.core.reach.request import Request
from yeldro.core.reach.rules import Rules
from yeldro.core.reach.search import Batch, find_reach, tables_in_reach
from yeldro.core.run.preview import (
    Preview,
    make_batch_preview,
    make_merging_preview,
    make_preview,
)
from yeldro.core.run.seal import Seal
from yeldro.core.selection.grouping import Ranking
from yeldro.core.selection.other_tables import find_other_tables
from yeldro.core.selection.selection import Selection
from yeldro.errors import UsageError
from yeldro.usecases.compare_reaches import key_sets_by_cause
from yeldro.usecases.rows import read_rows
from yeldro.usecases.schema_watch import find_scope
from yeldro.usecases.transaction import looking


class Job(Protocol):
    """One step of a run: what it looks for. `name` is "" where it is the only one and nobody named
    it; `seal` is that of the rows which it must find, if it has one."""

    name: str
    seal: Seal | None

    @property
    def selection(self) -> Selection: ...

    @property
    def unique_name(self) -> str:
        """The unique index that is added at the end, "" where none is."""
        ...

    @property
    def scope(self) -> Sequence[Table]:
        """The tables whose rows it may change."""
        ...

    def prepare(self) -> None:
        """Make what looking inside a read-only transaction needs."""
        ...

    def check_rights(self) -> None:
        """Refused where the account may not even do it to the rows that are chosen."""
        ...

    def look(self, *, store: bool, shown: bool = True) -> Preview:
        """Look inside the open transaction. With `store` the rows can be compared with those of
        another look.

        What only a person wants to see is left out where nothing is `shown`.
        """
        ...

    def find_kept(self, found: Preview) -> Sequence[KeySet]:
        """The temporary tables of a look that must outlive it."""
        ...

    @property
    def is_foretold(self) -> bool:
        """Whether what it would cost can be worked out from some of its rows."""
        ...

    @property
    def allowed(self) -> frozenset[str]:
        """The triggers that may do more than the run itself."""
        ...

    def find_fault(self, found: Preview) -> str:
        """What is not as it should be after the step, beyond the tally; "" where all is."""
        ...

    def follow_up(self) -> None:
        """What is left to do after the commit."""
        ...

    def write_follow_up(self) -> Sequence[str]:
        """The same as statements."""
        ...


class BatchJob(Job, Protocol):
    """One that can be done in batches, and whether it is. What was chosen is numbered: rows, or
    groups of them."""

    in_batches: bool
    by_keys: bool
    """Whether rows are chosen by their keys alone once they were found."""
    chosen: str
    """What is numbered: a row, or a group."""

    def check_batches(self, shown: Preview) -> None:
        """UsageError where what was chosen cannot be looked for again once other rows are gone."""
        ...

    def find_chosen(self, shown: Preview) -> StoredKeys:
        """The rows that were chosen, each by what fixes it."""
        ...

    def number(
        self, chosen: StoredKeys, key: Sequence[str], after: int = 0
    ) -> tuple[StoredKeys, int]:
        """The same by a unique key, numbered from `after` on in the order of the batches, and how
        many numbers there are."""
        ...

    def count_left(self, numbered: StoredKeys, untaken: int) -> int:
        """How many of the chosen ones were left, once all batches are done. So many chosen rows
        were not in any of them."""
        ...

    def narrow(self, listed: StoredKeys) -> None:
        """Choose only among rows that were chosen once, and were as many as they should be
        then."""
        ...

    def look_at_batch(self, shown: Preview, listed: StoredKeys, batch: Batch) -> Preview:
        """Look at a batch of the rows that were `shown`: those that are `listed`, as far as they
        still match."""
        ...


def _following(rules: Rules) -> Callable[[Reference], bool]:
    return lambda reference: rules.treatment(reference).action is not Action.STOP


class Deletion:
    """What a deletion looks for."""

    unique_name = ""
    in_batches = False
    chosen = "row"
    by_keys = False

    def __init__(
        self, database: Database, request: Request, name: str = "", seal: Seal | None = None
    ) -> None:
        self.database = database
        self.request = request
        self.selection = read_rows(database, request)
        self.name = name
        self.seal = seal

    @property
    def scope(self) -> Sequence[Table]:
        rules = self.request.rules
        return find_scope(self.database.schema, self.selection.table, _following(rules))

    def prepare(self) -> None:
        found = tables_in_reach(
            self.database.schema, self.selection.table, self.request.rules, store=True
        )
        self.database.prepare_key_sets(found)

    def check_rights(self) -> None:
        self.database.check_rights([self.selection.table], [])

    def look(self, *, store: bool, shown: bool = True) -> Preview:
        with explaining(self.database, self.selection):
            reach = find_reach(self.database, self.selection, self.request.rules, store=store)
        return make_preview(self.database, self.request, reach)

    def check_batches(self, shown: Preview) -> None:
        touched = {part.table for part in shown.reach.parts if part.rows}
        others = find_other_tables(self.selection, self.database.schema)
        if not self.by_keys and (looked := [table for table in others if table in touched]):
            raise UsageError(
                f"The selection looks at rows of {looked[0].label}, of which earlier batches "
                "change some: it cannot be asked again.",
                "With --even-if-changed the rows that are found now go by their keys alone.",
            )

    def find_kept(self, found: Preview) -> Sequence[KeySet]:
        reach = found.reach
        kept = [keys for keys, _ in key_sets_by_cause(reach).values()]
        return [*kept, reach.cleared] if reach.cleared and self.in_batches else kept

    def find_chosen(self, shown: Preview) -> StoredKeys:
        root = root_keys(shown.reach)
        rows = next((rows for keys, rows in shown.reach.deleted if keys is root), 0)
        if rows == shown.reach.matched:
            return stored(root)  # no row of the table goes because it depends on another
        return self.database.numbered.only_matched(stored(root))

    def number(
        self, chosen: StoredKeys, key: Sequence[str], after: int = 0
    ) -> tuple[StoredKeys, int]:
        return self.database.numbered.number(chosen, key)

    def count_left(self, numbered: StoredKeys, untaken: int) -> int:
        if not untaken:
            return 0
        with looking(self.database):
            return self.database.count_found(numbered)

    def narrow(self, listed: StoredKeys) -> None:
        guards = replace(self.request.guards, expect=None)
        self.request = replace(self.request, guards=guards)
        self.selection = self._choose(listed)

    def _choose(self, listed: StoredKeys) -> Selection:
        selection = Selection(self.selection.table) if self.by_keys else self.selection
        return replace(selection, keys=None, listed=listed, order=(), limit=None, all_rows=True)

    def look_at_batch(self, shown: Preview, listed: StoredKeys, batch: Batch) -> Preview:
        # By keys alone, no condition would tell these rows from others.
        alone = batch.untouched and not self.by_keys and self.selection.is_by_conditions
        reach = self._find_batch(self._choose(listed), replace(batch, alone=alone))
        return make_batch_preview(self.database, self.request.guards, reach, shown)

    def _find_batch(self, chosen: Selection, batch: Batch) -> Reach:
        return find_reach(self.database, chosen, self.request.rules, batch=batch)

    @property
    def is_foretold(self) -> bool:
        """Not where a rehearsal could do what no rollback takes back."""
        return not (self.selection.truncate or self.request.guards.no_rollback)

    @property
    def allowed(self) -> frozenset[str]:
        return self.request.guards.allow_trigger

    def find_fault(self, found: Preview) -> str:
        return ""

    def follow_up(self) -> None:
        pass

    def write_follow_up(self) -> Sequence[str]:
        return ()


class Clearing(Deletion):
    """What clearing looks for: the same rows, which stay."""

    request: ClearRequest

    def __init__(
        self, database: Database, request: ClearRequest, name: str = "", seal: Seal | None = None
    ) -> None:
        super().__init__(database, request, name, seal)
        columns = read_columns(request.columns, self.selection.table, request.to, database.dialect)
        # Whoever looks at some columns wants to see these, too.
        show = (*columns, *request.show) if request.show else ()
        self.request = replace(request, columns=columns, show=show)

    @property
    def scope(self) -> Sequence[Table]:
        rules = make_rules(self.request)
        return find_scope(self.database.schema, self.selection.table, _following(rules))

    def prepare(self) -> None:
        prepare_clearing(self.database, self.selection, self.request)

    def check_rights(self) -> None:
        self.database.check_rights([], [(self.selection.table, self.request.columns)])

    def look(self, *, store: bool, shown: bool = True) -> Preview:
        with explaining(self.database, self.selection):
            reach = find_clearing(self.database, self.selection, self.request)
        return make_preview(self.database, self.request, reach)

    @property
    def is_foretold(self) -> bool:
        return self.in_batches and super().is_foretold

    def count_left(self, numbered: StoredKeys, untaken: int) -> int:
        """Rows that were cleared are there, too."""
        if not untaken:
            return 0
        with looking(self.database):
            gone = self.database.numbered.count(numbered) - self.database.count_found(numbered)
        return max(0, untaken - gone)

    def _find_batch(self, chosen: Selection, batch: Batch) -> Reach:
        return find_clearing(self.database, chosen, self.request)


class Merging:
    """What removing surplus rows looks for."""

    in_batches = False
    by_keys = False
    chosen = "group"

    def __init__(
        self,
        database: Database,
        request: DuplicatesRequest,
        name: str = "",
        seal: Seal | None = None,
    ) -> None:
        check_request(database, request)
        self.database = database
        self.request = request
        self.selection = request.grouping.selection
        self.name = name
        self.seal = seal
        self.unique_name = request.unique_name
        self._rankings: list[Ranking] = []
        self._left_alone = 0

    @property
    def scope(self) -> Sequence[Table]:
        rules = self.request.dependents
        return find_scope(self.database.schema, self.selection.table, _following(rules))

    def prepare(self) -> None:
        prepare_merging(self.database, self.request)
        self._rankings.append(self.database.ranking.make_ranking(self.request.grouping))

    def check_rights(self) -> None:
        self.database.check_rights([self.selection.table], [])

    def look(self, *, store: bool, shown: bool = True) -> Preview:
        ranking = (
            self._rankings.pop()
            if store
            else self.database.ranking.make_ranking(self.request.grouping)
        )
        found = find_duplicates(self.database, self.request, ranking, shown=shown)
        self.ranking = ranking
        self._left_alone = found.left_alone
        return make_merging_preview(
            self.database, found, find_merging(self.database, self.request, ranking)
        )

    def check_batches(self, shown: Preview) -> None:
        if self.by_keys:
            raise UsageError("Rows are only removed while they are the same as others.")
        if self.request.decisions or self.unique_name:
            raise UsageError("--batch goes without --decisions and --then-unique.")
        if self.request.table.shares_identity:
            raise UsageError(
                f"{self.request.table.label} has no key, and batches go by keys.",
                "Give it a key without NULLs.",
            )

    def find_kept(self, found: Preview) -> Sequence[KeySet]:
        table = self.request.table
        kept = [keys for keys, _ in key_sets_by_cause(found.reach).values()]
        if self.in_batches:
            kept.append(StoredKeys(table, table.identity, self.ranking.name))
        return kept

    def find_chosen(self, shown: Preview) -> StoredKeys:
        return self.database.numbered.find_members(self.ranking)

    def number(
        self, chosen: StoredKeys, key: Sequence[str], after: int = 0
    ) -> tuple[StoredKeys, int]:
        return self.database.numbered.number_groups(self.ranking, key, after)

    def count_left(self, numbered: StoredKeys, untaken: int) -> int:
        request = self._choose(numbered)
        ranking = self.database.ranking.make_ranking(request.grouping)
        with looking(self.database):
            return self.database.ranking.count_left_groups(ranking)

    def narrow(self, listed: StoredKeys) -> None:
        guards = replace(self.request.guards, expect=None)
        self.request = replace(self._choose(listed), guards=guards)

    def _choose(self, listed: StoredKeys) -> DuplicatesRequest:
        selection = replace(self.selection, listed=listed)
        return replace(self.request, grouping=replace(self.request.grouping, selection=selection))

    def look_at_batch(self, shown: Preview, listed: StoredKeys, batch: Batch) -> Preview:
        request = self._choose(listed)
        self.ranking = self.database.ranking.make_ranking(request.grouping)
        self.database.ranking.rank(self.ranking)
        reach = find_merging(self.database, request, self.ranking, batch.table_rows)
        return make_batch_preview(self.database, request.guards, reach, shown)

    @property
    def is_foretold(self) -> bool:
        is_whole = self.request.decisions or self.unique_name or self.request.table.shares_identity
        return self.in_batches and not is_whole

    @property
    def allowed(self) -> frozenset[str]:
        return self.request.guards.allow_trigger

    def find_fault(self, found: Preview) -> str:
        changed = [change.table for change in found.reach.changes]
        changed += [detachment.reference.child for detachment in found.reach.detached]
        # Else the tally proves it: all surplus rows are gone, no other row is, and none was
        # changed.
        unproven = self.request.table in changed or self.request.table.shares_identity
        left = self.database.ranking.count_left_groups(self.ranking) if unproven else 0
        if left > self._left_alone:
            return f"{left:,} groups of {self.request.table.label} still hold several rows"
        if self.request.unique_name and not self.database.abilities.ddl_commits:
            _, blanks = self.database.ranking.count_left_out(self.ranking)
            self.database.add_unique(
                self.request.grouping, self.request.unique_name, blanks_stay=blanks > 1
            )
        return ""

    def follow_up(self) -> None:
        if self._indexes_late:
            self.database.add_unique(self.request.grouping, self.request.unique_name)

    def write_follow_up(self) -> Sequence[str]:
        grouping, name = self.request.grouping, self.request.unique_name
        return [self.database.write_unique(grouping, name)] if self._indexes_late else []

    @property
    def _indexes_late(self) -> bool:
        return bool(self.request.unique_name) and self.database.abilities.ddl_commits
