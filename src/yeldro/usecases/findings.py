"""Looking for what could be cleaned up: a bounded time for each table, then a part of it."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import suppress
from functools import partial
from typing import Any, TypeVar

from msgspec import Struct
from msgspec.structs import replace

from yeldro.core.cautions.undeclared import Likely, find_likely
from yeldro.core.database.connection import Database
from yeldro.core.findings.contents import find_in_contents, list_tests
from yeldro.core.findings.finding import Finding, Findings, Way
from yeldro.core.findings.holding import Held, Holdings, list_holders
from yeldro.core.findings.sameness import (
    alike,
    almost_unique,
    is_almost_unique,
    list_alike,
    list_naming,
    list_occasions,
    list_texts,
    may_be_unique,
    read_sameness,
)
from yeldro.core.model.fact import fact
from yeldro.core.model.schema import Family, Reference, Table
from yeldro.core.selection.condition import Condition, read_condition
from yeldro.core.selection.selection import Asked, Selection, read_selection
from yeldro.errors import NotAllowed, Refused, TookTooLong
from yeldro.usecases.transaction import looking

T = TypeVar("T")
# How many rows are looked at where looking at all of them takes too long, in key order.
SAMPLE = 100_000
# Seconds that a look at a part of a table may take in any case.
_LEAST = 1.0
# An engine has a bound on how many columns a query may have.
_AT_ONCE = 500
_ORDERED = (Family.INTEGER, Family.NUMBER, Family.TEXT, Family.DATE, Family.TIMESTAMP)


Watch = Callable[[int, int, Table], None]


def find_findings(
    database: Database, tables: Sequence[Table], wait: float, watch: Watch
) -> Findings:
    """Look at each table for at most `wait` seconds, then at a part of it.

    `watch` is told how many tables are done, of how many, and which one is looked at.
    """
    with looking(database):
        likely = find_likely(database, tables)
    found: list[Finding] = []
    unseen: list[Table] = []
    for search in _search_each(database, tables, wait, watch):
        found += search.find([one for one in likely if one.child is search.table])
        unseen += search.unseen
    return Findings(tuple(found), tuple(unseen))


def find_holding(
    database: Database, tables: Sequence[Table], value: str, wait: float, watch: Watch
) -> Holdings:
    """Look for a value in each column that can hold it, under the same bounds."""
    found: list[Held] = []
    unseen: list[Table] = []
    for search in _search_each(database, tables, wait, watch):
        found += search.find_value(value)
        unseen += search.unseen
    return Holdings(value, tuple(found), tuple(unseen))


def _search_each(
    database: Database, tables: Sequence[Table], wait: float, watch: Watch
) -> Iterator[_TableSearch]:
    for place, table in enumerate(tables):
        watch(place, len(tables), table)
        yield _TableSearch(database, table, time.monotonic() + wait, wait)


class _TableSearch(Struct):
    """The questions that are asked of one table. After the time `end` each is asked of a part of it
    only, and may take `wait` seconds."""

    database: Database
    table: Table
    end: float
    wait: float
    is_unseen: bool = False
    """Whether something could not be asked even of a part."""

    _sample: Asked | None = None
    _rows: int = 0
    """How many rows there are, or in the sample."""

    def find(self, likely: Sequence[Likely]) -> Iterator[Finding]:
        yield from self._find_in_contents()
        for reference in self.database.schema.outgoing(self.table):
            if not reference.broken and reference.parent.kind != "absent table":
                yield from self._find_orphans(reference)
        for one in likely:
            yield from self._find_likely_orphans(one)
        if same := list_alike(self.table):
            rows = self._ask(partial(self._count_surplus, same=same, nulls_are_same=True))
            if rows:
                yield self._mark(alike(self.table, same, rows))
        yield from self._find_almost_unique()
        for pair in list_occasions(self.database.schema, self.table):
            rows = self._ask(partial(self._count_surplus, same=pair))
            if rows and is_almost_unique(self._rows, self._rows - rows):
                yield self._mark(almost_unique(self.table, pair, rows))

    @property
    def unseen(self) -> list[Table]:
        return [self.table] if self.is_unseen else []

    def find_value(self, value: str) -> Iterator[Held]:
        holders = list(list_holders(self.database, self.table, value))
        conditions = [one.condition for one in holders]
        counts = self._count_in_parts(conditions)[1]
        for holder, rows in zip(holders, counts, strict=False):
            if rows:
                yield Held(holder, rows, self._sampled)

    def _find_in_contents(self) -> Iterator[Finding]:
        tests = list_tests(self.database, self.table)
        conditions = [
            read_condition(test.text, self.table, self.database.dialect, {}) for test in tests
        ]
        self._rows, counts = self._count_in_parts(conditions)
        if self.is_unseen:
            return
        if not self._rows and not self.database.schema.incoming(self.table):
            yield Finding(0, fact("finding.empty"), Way("survey", self.table, {}))
        for one in find_in_contents(self.table, self._rows, tests, counts):
            yield self._mark(one)

    def _count_in_parts(self, conditions: Sequence[Condition]) -> tuple[int, list[int]]:
        """How many rows there are, and how many meet each condition; no counts where it took too
        long."""
        counts: list[int] = []
        rows = 0
        for start in range(0, len(conditions) or 1, _AT_ONCE):
            part = conditions[start : start + _AT_ONCE]
            answer = self._ask(partial(self._count_each, conditions=part))
            if answer is None:
                return 0, []
            rows, *met = answer
            counts += met
        return rows, counts

    def _count_each(self, asked: Asked, conditions: Sequence[Condition]) -> Callable[[], list[int]]:
        selection = self._read(asked)
        return lambda: self.database.count_each(selection, conditions)

    def _find_orphans(self, reference: Reference) -> Iterator[Finding]:
        options: dict[str, Any] = {"orphans": True, "on": ",".join(reference.columns)}
        rows = self._ask(lambda asked: self._count_selected(replace(asked, **options)))
        if rows:
            found = fact("finding.orphans", reference=str(reference), rows=rows)
            yield self._mark(Finding(rows, found, Way("preview", self.table, options)))

    def _find_likely_orphans(self, one: Likely) -> Iterator[Finding]:
        options: dict[str, Any] = {
            "where": (f"{self.database.write_name(one.column.name)} IS NOT NULL",),
            "not_found_in": one.parent.label,
            "on": f"{one.column.name}={one.referred.name}",
        }
        rows = self._ask(
            lambda asked: self._count_selected(
                replace(asked, **{**options, "where": (*asked.where, *options["where"])})
            )
        )
        if rows:
            found = fact("finding.orphans.likely", reference=str(one), rows=rows)
            yield self._mark(Finding(rows, found, Way("preview", self.table, options)))

    def _count_selected(self, asked: Asked) -> Callable[[], int]:
        selection = self._read(asked)
        return lambda: self.database.count_selected(selection)

    def _find_almost_unique(self) -> Iterator[Finding]:
        columns, texts = list_naming(self.table), list_texts(self.table)
        wanted = list(dict.fromkeys([*columns, *texts]))
        if not wanted:
            return
        answer = self._ask(partial(self._count_values, columns=wanted))
        if answer is None:
            return
        for place, name in enumerate(wanted):
            values, distinct = answer[2 * place : 2 * place + 2]
            if name in columns and is_almost_unique(values, distinct):
                yield self._mark(almost_unique(self.table, [name], values - distinct))
            if name in texts and may_be_unique(values, distinct):
                rows = self._ask(partial(self._count_surplus, same=[name], loosely=True))
                if rows and rows > values - distinct and is_almost_unique(values, values - rows):
                    yield self._mark(almost_unique(self.table, [name], rows, loosely=True))

    def _count_values(self, asked: Asked, columns: Sequence[str]) -> Callable[[], list[int]]:
        selection = self._read(asked)
        return lambda: self.database.count_values(selection, columns)

    def _count_surplus(
        self,
        asked: Asked,
        same: Sequence[str],
        *,
        loosely: bool = False,
        nulls_are_same: bool = False,
    ) -> Callable[[], int]:
        grouping = read_sameness(
            self.database, asked, same, loosely=loosely, nulls_are_same=nulls_are_same
        )
        queries = self.database.ranking
        ranking = queries.make_ranking(grouping)

        def count() -> int:
            rows = queries.rank(ranking)
            return rows - queries.count_groups(ranking)[0]

        return count

    def _read(self, asked: Asked) -> Selection:
        return read_selection(asked, self.database.schema, self.database.dialect)

    def _ask(self, prepare: Callable[[Asked], Callable[[], T]]) -> T | None:
        """The answer for the whole table, or for a sample of it; None where even that takes too
        long. What `prepare` makes is asked within a transaction of its own."""
        left = self.end - time.monotonic()
        # Without a right to read, or to make the table that a question needs, it stays unanswered.
        with suppress(TookTooLong, NotAllowed, Refused):
            if self._sample is None and left > 0:
                return self._look(left, prepare(Asked(self.table.label, all_rows=True)))
        with suppress(TookTooLong, NotAllowed, Refused):
            if sample := self._find_sample():
                return self._look(max(self.wait, _LEAST), prepare(sample))
        self.is_unseen = True
        return None

    def _look(self, seconds: float, work: Callable[[], T]) -> T:
        with self.database.limited(seconds), looking(self.database):
            return work()

    def _find_sample(self) -> Asked | None:
        """The first rows in key order, where the key has an order that a value can tell."""
        table = self.table
        if not table.key or table.column(table.key[0]).family not in _ORDERED:
            return None
        if self._sample is None:
            last = self._look(
                max(self.wait, _LEAST), lambda: self.database.find_key_at(table, SAMPLE - 1)
            )
            self._sample = whole = Asked(table.label, all_rows=True)
            if last is not None:
                condition = f"{self.database.write_name(table.key[0])} <= :last"
                self._sample = replace(whole, where=(condition,), parameters=(f"last={last}",))
        return self._sample

    def _mark(self, one: Finding) -> Finding:
        return replace(one, sampled=self._sampled)

    @property
    def _sampled(self) -> int:
        """How many rows stand for all of them, 0 where these were looked at."""
        return SAMPLE if self._sample and self._sample.where else 0
