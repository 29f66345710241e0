"""Keys with a number each, by which many rows are taken in batches."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import sqlalchemy as sa

from yeldro.core.database.abilities import Row
from yeldro.core.database.archive_format import Stage
from yeldro.core.model.key_set import KeyRange, NumberedKeys, StoredKeys
from yeldro.core.model.schema import Table
from yeldro.core.selection.grouping import Ranking
from yeldro.engines.shared.part import SqlPart
from yeldro.engines.shared.statements import MATCHED, Words


class SqlNumberedKeys(SqlPart):
    """The part of a connection. The number stands where other key sets hold the round."""

    def only_matched(self, keys: StoredKeys) -> StoredKeys:
        matched = StoredKeys(keys.table, keys.columns, self._names.of(keys.table))
        self._database.create_key_table(matched)
        source = self._statements.key_table(keys)
        cells = self._statements.key_columns(keys, keys.columns)
        rows = sa.select(*cells, source.c.round)
        rows = rows.where(source.c.round == sa.literal_column(MATCHED))
        self._database.fill(matched, self._statements.fill_plain(matched, rows))
        return matched

    def number(self, keys: StoredKeys, key: Sequence[str]) -> tuple[StoredKeys, int]:
        if set(key) <= set(keys.columns):
            return self._number(keys.table, key, self._statements.key_columns(keys, key))
        clause = self._statements.table(keys.table)
        cells = [clause.c[name] for name in key]
        return self._number(keys.table, key, cells, self._statements.has_identity(keys))

    def find_members(self, ranking: Ranking) -> StoredKeys:
        members = self._make(ranking.table, ranking.table.identity)
        self._database.ranking.number_groups(ranking, members)
        return members

    def number_groups(
        self, ranking: Ranking, key: Sequence[str], after: int
    ) -> tuple[StoredKeys, int]:
        numbered = self._make(ranking.table, key)
        groups = self._database.ranking.number_groups(ranking, numbered, after)
        self._index_numbers(numbered)
        return numbered, groups

    def number_staged(self, stage: Stage) -> tuple[StoredKeys, int]:
        staged = self._statements.staged(stage)
        return self._number(stage.table, stage.key, [staged.c[name] for name in stage.key])

    def _number(
        self,
        table: Table,
        key: Sequence[str],
        cells: Sequence[sa.ColumnElement[Any]],
        *wanted: sa.ColumnElement[bool],
    ) -> tuple[StoredKeys, int]:
        numbered = NumberedKeys(table, tuple(key), self._names.of(table))
        self._make_numbered(numbered)
        rows = sa.select(*cells).where(*wanted)
        found = self._database.fill(numbered, self._give_numbers(numbered, rows))
        if not self._numbers_are_keys:
            self._index_numbers(numbered)
        if any(one.child is table for one in self._database.schema.acting):
            # Some rows may depend on others of them.
            names = [f"c{place}" for place in range(len(key))]
            self._gate.run(self._index(numbered, "key", ", ".join(names)))
        return numbered, found

    def _give_numbers(self, numbered: StoredKeys, rows: sa.Select[Any]) -> sa.Insert:
        number = sa.func.row_number().over(order_by=rows.selected_columns)
        return self._statements.fill_plain(numbered, rows.add_columns(number))

    _numbers_are_keys = False
    """Whether an engine can make a key table whose primary key is the number."""

    def _make_numbered(self, numbered: StoredKeys) -> None:
        self._database.create_key_table(numbered, unique=False)

    def _index_numbers(self, numbered: StoredKeys) -> None:
        self._gate.run(self._index(numbered, "number", "round"))

    def _index(self, numbered: StoredKeys, end: str, columns: str) -> Words:
        name = sa.table(f"{numbered.name}_by_{end}")
        target = self._statements.key_table(numbered)
        return Words("CREATE INDEX", name, "ON", target, f"({columns})")

    def _make(self, table: Table, key: Sequence[str]) -> StoredKeys:
        keys = StoredKeys(table, tuple(key), self._names.of(table))
        self._database.create_key_table(keys, unique=set(table.identity) <= set(key))
        return keys

    def between(self, numbered: StoredKeys, first: int, last: int) -> KeyRange:
        return KeyRange(
            numbered.table,
            numbered.columns,
            self._names.of(numbered.table),
            numbered=numbered,
            first=int(first),
            last=int(last),
            ends=self._find_ends(numbered, first, last),
        )

    def take(self, numbered: StoredKeys, first: int, last: int) -> StoredKeys:
        keys = self._make(numbered.table, numbered.columns)
        some = self.between(numbered, first, last)
        cells = self._statements.key_columns(some, some.columns)
        rows = sa.select(*cells, sa.literal_column("0"))
        self._database.fill(keys, self._statements.fill_plain(keys, rows))
        return keys

    def count(self, keys: StoredKeys) -> int:
        return self._gate.number(
            sa.select(sa.func.count()).select_from(self._statements.key_table(keys))
        )

    def _find_ends(self, numbered: StoredKeys, first: int, last: int) -> tuple[Row, Row]:
        if first > last:
            return (), ()
        number = self._statements.key_table(numbered).c.round
        rows = sa.select(number, *self._statements.key_columns(numbered, numbered.columns))
        some = rows.where(number.in_([_write(first), _write(last)]))
        # Of a group of several rows, the first one.
        sent = self._gate.run(some.order_by(*map(sa.desc, some.selected_columns)))
        found: dict[int, Row] = {int(row[0]): tuple(row[1:]) for row in sent}
        return found[first], found[last]

    def remember(self) -> None:
        self._gate.made.clear()
        self._statements.remember()
        self._database.in_batches = True

    def drop_others(self) -> None:
        for name in self._gate.made:
            table = sa.table(name, schema=self._statements.key_schema)
            self._gate.run(Words(self._statements.drop_temporary, table))
        self._database.forget_key_sets(self._gate.made)
        self._gate.made.clear()
        self._statements.forget_others()


def _write(number: int) -> sa.ColumnElement[int]:
    return sa.literal_column(str(int(number)))
