"""What a database itself counted on this connection."""

from __future__ import annotations

from collections.abc import Mapping

from msgspec import Struct, field

from yeldro.core.model.schema import Table, TableName


class TableChanges(Struct, frozen=True):
    """Rows of one table that the database counted as inserted, updated and deleted."""

    inserted: int = 0
    updated: int = 0
    deleted: int = 0

    @property
    def total(self) -> int:
        return self.inserted + self.updated + self.deleted

    def plus(self, other: TableChanges) -> TableChanges:
        return TableChanges(
            self.inserted + other.inserted,
            self.updated + other.updated,
            self.deleted + other.deleted,
        )

    def less(self, other: TableChanges) -> TableChanges:
        return TableChanges(
            self.inserted - other.inserted,
            self.updated - other.updated,
            self.deleted - other.deleted,
        )


class Changes(Struct, frozen=True):
    """What the database itself counted on this connection so far: in total and, where it tells, by
    table.

    `storage` says of tables where their rows are kept, as it changes when one is emptied or rebuilt
    as a whole, which no counter tells. `replaced` are the tables that were, or that are gone, since
    another look.
    """

    total: int
    tables: Mapping[TableName, TableChanges] | None = None
    storage: Mapping[TableName, str] = field(default_factory=dict)
    replaced: tuple[TableName, ...] = ()

    def since(self, start: Changes) -> Changes:
        """What came after `start`."""
        if self.tables is None:
            return Changes(self.total - start.total)
        old = start.tables or {}
        return Changes(
            self.total - start.total,
            {
                name: one.less(old.get(name, TableChanges()))
                for name, one in self.tables.items()
                if one != old.get(name)
            },
            replaced=tuple(
                name for name, place in start.storage.items() if self.storage.get(name) != place
            ),
        )

    def of(self, table: Table) -> TableChanges:
        """What was counted for a table and its partitions; nothing where the database does not
        count by table."""
        found = [
            one
            for name, one in (self.tables or {}).items()
            if name == table.name or name in table.parts
        ]
        return TableChanges(
            sum(one.inserted for one in found),
            sum(one.updated for one in found),
            sum(one.deleted for one in found),
        )
