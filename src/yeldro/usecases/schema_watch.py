"""Whether the schema is still the one that was shown, asked under the locks of each transaction
that changes rows."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence

from yeldro.core.database.abilities import Mode
from yeldro.core.database.connection import Database
from yeldro.core.model.fact import Fact, fact
from yeldro.core.model.schema import Reference, Schema, Table, TableName
from yeldro.core.model.shape import Shape, ShapeDifference, find_shape_differences
from yeldro.core.reach.order import reachable
from yeldro.errors import BadStatement, DatabaseFailed, Refused
from yeldro.usecases.transaction import undo
from yeldro.words.tell import tell

PREVIEWED = "since the preview"


def find_scope(schema: Schema, root: Table, follows: Callable[[Reference], bool]) -> list[Table]:
    """The tables whose rows a run may change: `root`, those of rows that depend on its rows
    through references that it `follows`, at any distance, and the partitions of each."""
    edges = [(one.parent.name, one.child.name) for one in schema.acting if follows(one)]
    found: dict[TableName, None] = {}
    for name in reachable(root.name, edges):
        found[name] = None
        found.update(dict.fromkeys(sorted(schema.by_name[name].parts)))
    return [schema.by_name[name] for name in found if name in schema.by_name]


class SchemaWatch:
    """Watches some tables. `shown` is what they were made of when the schema was read."""

    def __init__(
        self,
        database: Database,
        tables: Sequence[Table],
        shown: Shape | None = None,
        since: str = PREVIEWED,
    ) -> None:
        self.database = database
        self.tables = [table for table in tables if table.kind == "table"]
        self.names = [table.name for table in self.tables]
        self.since = since
        self.shown = database.shape if shown is None else shown

    def begin(self, alone: Sequence[Table] = ()) -> None:
        """Open a transaction that changes rows, in which none of the tables can be defined anew.
        Refused, with no transaction left, where one was."""
        alone_here = bool(alone) and not self.database.abilities.rolls_back_truncate
        try:
            self.database.begin(Mode.WRITE, alone, () if alone_here else self.tables)
            found = self.find_differences()
        except BadStatement:
            # A table that is gone cannot be locked.
            undo(self.database)
            self._refuse(self.find_differences())
            raise
        except DatabaseFailed:
            undo(self.database)
            raise
        if found:
            undo(self.database)
            self._refuse(found)

    @property
    def expected(self) -> Shape:
        """What the tables must be made of."""
        return {name: self.shown[name] for name in self.names if name in self.shown}

    def find_differences(self) -> list[ShapeDifference]:
        now = self.database.find_shape(self.names)
        return find_shape_differences(self.shown, now, self.names)

    def _refuse(self, found: Sequence[ShapeDifference]) -> None:
        if found:
            raise SchemaChanged(" ".join(self.tell(found)), "Preview again.")

    def tell(self, found: Iterable[ShapeDifference]) -> list[str]:
        return [tell(make_fact(one, self.database.schema, self.since)) for one in found]


class SchemaChanged(Refused):
    """The schema is not the one that was shown. Nothing of the transaction was changed."""


def make_fact(one: ShapeDifference, schema: Schema, since: str) -> Fact:
    table = schema.by_name.get(one.table)
    label = table.label if table else one.table.name
    return fact(f"shape.{one.kind}.{one.change}", name=one.name, table=label, since=since)
