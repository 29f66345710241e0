"""What the schema of some tables looks like at a moment: a text for each part of it, so that two
moments can be compared."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping
from enum import StrEnum

from msgspec import Struct

from yeldro.core.model.schema import TableName


class PartKind(StrEnum):
    """What a table is made of, in the order in which differences are told. A `REFERENCE` is told
    of both of its ends; `TABLE` is all that the others leave out."""

    COLUMN = "column"
    REFERENCE = "reference"
    TRIGGER = "trigger"
    RULE = "rule"
    POLICY = "policy"
    UNIQUE = "unique"
    CHECK = "check"
    PARTITION = "partition"
    TABLE = "table"


class Change(StrEnum):
    """What became of a part."""

    ADDED = "added"
    DROPPED = "dropped"
    CHANGED = "changed"


# The parts of one table, each by its kind and name, with the text of its definition.
Parts = Mapping[tuple[PartKind, str], str]
Shape = Mapping[TableName, Parts]


class ShapeDifference(Struct, frozen=True):
    """One part of a table that is not as it was. `before` and `now` are its definitions."""

    table: TableName
    kind: PartKind
    name: str
    change: Change
    before: str = ""
    now: str = ""


def find_shape_differences(
    before: Shape, now: Shape, tables: Collection[TableName]
) -> list[ShapeDifference]:
    """What is different in some tables, in their order."""
    found = [
        one for name in tables for one in _compare(name, before.get(name, {}), now.get(name, {}))
    ]
    # What follows from another difference says nothing new.
    told = {one.table for one in found if one.kind is not PartKind.TABLE}
    return [one for one in found if one.kind is not PartKind.TABLE or one.table not in told]


def _compare(table: TableName, before: Parts, now: Parts) -> Iterator[ShapeDifference]:
    order = list(PartKind)
    names = sorted(before.keys() | now.keys(), key=lambda part: (order.index(part[0]), part[1]))
    # A table that is gone, or new, is one difference, and not one for each of its parts.
    whole = (PartKind.TABLE, "")
    if (whole in before) != (whole in now):
        names = [whole]
    for kind, name in names:
        was, is_now = before.get((kind, name)), now.get((kind, name))
        if was is None:
            yield ShapeDifference(table, kind, name, Change.ADDED, now=is_now or "")
        elif is_now is None:
            yield ShapeDifference(table, kind, name, Change.DROPPED, before=was)
        elif was != is_now:
            yield ShapeDifference(table, kind, name, Change.CHANGED, was, is_now)
