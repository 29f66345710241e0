"""What a preview can teach about its condition: short, and only where it helps."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from msgspec import Struct

from yeldro.core.database.abilities import Row
from yeldro.core.database.connection import Database
from yeldro.core.model.fact import Fact, fact
from yeldro.core.model.key_set import KeySet
from yeldro.core.selection.parts import cut_at_and, pins_a_row
from yeldro.core.selection.selection import Selection

# Fewer than one in ten is worth a look; more is how the data is.
RARE = 0.1


class Part(Struct, frozen=True):
    """One of the AND-ed parts of a selection's conditions, and how many rows meet it and all parts
    before it."""

    text: str
    rows: int


def find_parts(database: Database, selection: Selection) -> tuple[Part, ...]:
    """The AND-ed parts in their order; () where there is one only, or where the parser could not
    read them."""
    if selection.view or any(condition.tree is None for condition in selection.conditions):
        return ()
    parts = [one for condition in selection.conditions for one in cut_at_and(condition)]
    if len(parts) < 2:
        return ()
    counts = database.count_steps(selection.table, parts)
    return tuple(Part(one.text, rows) for one, rows in zip(parts, counts, strict=True))


def find_hints(
    database: Database,
    selection: Selection,
    keys: KeySet,
    matched: int,
    columns: Sequence[str],
    sample: Sequence[Row],
) -> Iterator[Fact]:
    """What is worth knowing about the matched rows, for whoever wants to see some of them."""
    if not sample:
        return
    table = selection.table
    if matched == 1 and sample and selection.conditions and table.key and not pins_a_row(selection):
        key = [str(sample[0][columns.index(name)]) for name in table.key]
        yield fact("hint.key", key=",".join(key))
    nullable = [
        name for name in columns if name in table.column_names and table.column(name).nullable
    ]
    if matched > 1 and nullable:
        filled = database.count_filled(keys, nullable)
        for name, rows in zip(nullable, filled, strict=True):
            if 0 < matched - rows <= RARE * matched:
                yield fact("hint.rare", rows=matched - rows, matched=matched, column=name)
