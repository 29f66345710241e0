"""What a column holds instead, where no row has the value that was asked for."""

from __future__ import annotations

import difflib
from collections.abc import Iterator, Sequence
from typing import Any

from msgspec import Struct

from yeldro.core.database.column_profile import First
from yeldro.core.database.connection import Database
from yeldro.core.model.grammar import exp
from yeldro.core.model.schema import Column, Family
from yeldro.core.selection.column_scope import Scopes
from yeldro.core.selection.condition import Condition
from yeldro.core.selection.parts import ands, write_part
from yeldro.core.selection.selection import Selection

# Values that are told of each kind.
_TOLD = 3
# So many of the most common values are compared with the one that was asked for.
_CANDIDATES = 500
# Counting all values takes a look through the table, which a larger one is spared.
_LARGEST = 1_000_000

Counted = tuple[tuple[Any, int], ...]


class NoMatch(Struct, frozen=True, eq=False):
    """No row meets the equality that is `written`. `alike` are values that differ from it by case
    or spaces alone, `near` those next to it or spelt almost like it, `common` the most common ones;
    each with its number of rows."""

    column: Column
    written: str
    alike: Counted
    near: Counted
    common: Counted


def find_no_matches(database: Database, selection: Selection, rows: int) -> Iterator[NoMatch]:
    """Look at each equality that must be met and that no row meets, in a table of `rows`."""
    if selection.view:
        return
    scopes = Scopes(selection.table, database.schema)
    for condition in selection.conditions:
        for node in ands(condition.tree) if condition.tree else ():
            match node:
                case exp.EQ(this=exp.Column() as name, expression=value) if not value.find(
                    exp.Column, exp.Select
                ):
                    column = scopes.column(name)
                    look = _Look(database, selection, condition, rows)
                    if column and (found := look.find(column, node, value)):
                        yield found


class _Look(Struct, frozen=True):
    database: Database
    selection: Selection
    condition: Condition
    rows: int

    def find(self, column: Column, node: exp.Expr, value: exp.Expr) -> NoMatch | None:
        name, written = (
            self.database.write_name(column.name),
            write_part(value, self.condition.dialect),
        )
        same = self.condition.derive(f"{name} = {written}")
        if self.database.try_count(self.selection.table, same) != 0:
            return None
        common = (
            self._find(column, First.MOST_COMMON, "", _CANDIDATES) if self.rows <= _LARGEST else ()
        )
        alike: Counted = ()
        if column.family is Family.TEXT:
            folded = f"LOWER(TRIM({name})) = LOWER(TRIM({written}))"
            alike = self._find(column, First.MOST_COMMON, folded, _TOLD)
        near = [
            *(self._find_spelt(value, common) if column.family is Family.TEXT else ()),
            *self._find(column, First.HIGHEST, f"{name} < {written}", 1),
            *self._find(column, First.LOWEST, f"{name} > {written}", 1),
        ]
        close = tuple(one for one in dict.fromkeys(near) if one not in alike)
        # Where every value stands once, none is more common than the others.
        told = common[:_TOLD] if common and common[0][1] > 1 else ()
        return NoMatch(column, write_part(node, self.condition.dialect), alike, close[:_TOLD], told)

    def _find(self, column: Column, first: First, text: str, limit: int) -> Counted:
        condition = self.condition.derive(text) if text else None
        found = self.database.find_values(self.selection.table, column, condition, first, limit)
        return tuple(found)

    def _find_spelt(self, value: exp.Expr, common: Counted) -> Sequence[tuple[Any, int]]:
        """Of the most common values those that are spelt almost like the one that was asked for."""
        wanted = value.name
        if isinstance(value, exp.Placeholder):
            wanted = str(self.condition.values.get(value.name, ""))
        counts = {one.casefold(): (one, rows) for one, rows in common if isinstance(one, str)}
        close = difflib.get_close_matches(wanted.casefold(), counts, n=_TOLD, cutoff=0.6)
        return [counts[text] for text in close]
