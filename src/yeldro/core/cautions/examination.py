"""One condition under examination, and what the checks of conditions have in common."""

from __future__ import annotations

import re
from collections.abc import Iterator

from msgspec import Struct

from yeldro.core.database.abilities import Quirk
from yeldro.core.database.connection import Database
from yeldro.core.model.grammar import exp
from yeldro.core.model.key_set import KeySet
from yeldro.core.selection.column_scope import Scopes
from yeldro.core.selection.condition import Condition
from yeldro.core.selection.parts import write_part

# What MariaDB takes for a number in a text; anything after it is dropped without a word.
NUMERIC = re.compile(r"\s*[-+]?(\d+\.?\d*|\.\d+)([eE][-+]?\d+)?\s*")


def comparisons() -> tuple[type[exp.Binary], ...]:
    return (exp.EQ, exp.NEQ, exp.LT, exp.LTE, exp.GT, exp.GTE)


class Look(Struct, frozen=True, eq=False):
    """One condition under examination: its scopes, and the database that gives the figures."""

    condition: Condition
    scopes: Scopes
    database: Database
    keys: KeySet

    @property
    def table_label(self) -> str:
        return self.scopes.table.label

    @property
    def quirks(self) -> frozenset[Quirk]:
        return self.database.abilities.quirks

    def written(self, node: exp.Expr) -> str:
        return write_part(node, self.condition.dialect)

    def count(self, text: str) -> int | None:
        """How many rows of the table meet a condition made from the person's own, None where it
        cannot be run."""
        return self.database.try_count(self.scopes.table, self.condition.derive(text))


def split_conditions(tree: exp.Expr) -> Iterator[exp.Expr]:
    """The conditions that AND, OR, NOT and brackets put together."""
    if isinstance(tree, exp.And | exp.Or):
        yield from split_conditions(tree.left)
        yield from split_conditions(tree.right)
    elif isinstance(tree, exp.Paren | exp.Not):
        yield from split_conditions(tree.this)
    else:
        yield tree
