"""What removing surplus rows should do, worked out row by row in plain Python. Shares no code with
the product."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

Row = dict[str, Any]
Tables = dict[str, list[Row]]
# Child, its column, the parent, the column that it points at.
LINKS = [
    ("basins", "parent_id", "basins", "id"),
    ("gates", "basin_id", "basins", "id"),
    ("gates", "other_id", "basins", "id"),
    ("marks", "code", "basins", "code"),
    ("pins", "gate_id", "gates", "id"),
    ("tags", "basin_id", "basins", "id"),
]
COLUMNS = {
    "basins": ("id", "a", "b", "code", "note", "parent_id"),
    "gates": ("id", "basin_id", "other_id", "slot"),
    "pins": ("id", "gate_id", "kind"),
    "tags": ("basin_id", "tag"),
    "marks": ("id", "code"),
}
KEYS = {
    "basins": ("id",),
    "gates": ("id",),
    "pins": ("id",),
    "tags": ("basin_id", "tag"),
    "marks": ("id",),
}
UNIQUE = {"gates": ("basin_id", "slot"), "pins": ("gate_id", "kind"), "tags": ("basin_id", "tag")}
FILLED = ("a", "b", "code", "note", "parent_id")


@dataclass
class Expected:
    """`after` is the end state, or `stops` tells why there is none."""

    after: Tables
    stops: str = ""


def is_blank(value: Any, *, texts: bool = True) -> bool:
    return value is None or (texts and isinstance(value, str) and not value.strip(" "))


def merge(tables: Tables, groups: list[list[int]], drops: set[str], filling: str) -> Expected:
    """`groups` are keys of basins, the one that stays first. `drops` are the tables whose colliding
    rows may go."""
    by_key = {(name, *key_of(name, row)): row for name, rows in tables.items() for row in rows}
    gone = {("basins", other): ("basins", group[0]) for group in groups for other in group[1:]}
    filled = _fill(by_key, groups, filling)
    while True:
        moved = {key: dict(row) for key, row in by_key.items() if key not in gone}
        for key, row in moved.items():
            for child, column, parent, referred in LINKS:
                if child != key[0] or row[column] is None:
                    continue
                parents = [name for name in by_key if name[0] == parent]
                old = next(name for name in parents if by_key[name][referred] == row[column])
                if old not in gone:
                    continue
                kept = by_key[gone[old]]
                value = (
                    kept[referred]
                    if kept[referred] is not None
                    else filled.get((kept["id"], referred))
                )
                if value is None:
                    return Expected({}, "NULL in the kept row")
                itself = child == parent and value == row[referred]
                row[column] = None if itself else value
        found = _collisions(moved, by_key)
        if not found:
            break
        if any(key[0] not in drops for key in found):
            return Expected({}, "collisions")
        gone |= found
        for key, other in gone.items():
            while other in gone:
                other = gone[other]
            gone[key] = other
    for (place, column), value in filled.items():
        if column != "parent_id" or (("basins", value) not in gone and value != place):
            moved["basins", place][column] = value
    changed = [key[1] for key, row in moved.items() if key[0] == "basins" and row != by_key[key]]
    ups = {key[1]: row["parent_id"] for key, row in moved.items() if key[0] == "basins"}
    for start in changed:
        up, seen = ups[start], 0
        while up is not None and up != start and seen <= len(ups):
            up, seen = ups.get(up), seen + 1
        if up == start:
            return Expected({}, "loop")
    return Expected(
        {name: [row for key, row in moved.items() if key[0] == name] for name in tables}
    )


def key_of(name: str, row: Row) -> tuple[Any, ...]:
    return tuple(row[column] for column in KEYS[name])


def _fill(
    by_key: dict[Any, Row], groups: list[list[int]], filling: str
) -> dict[tuple[int, str], Any]:
    found = {}
    for kept, *others in groups if filling else []:
        for column in FILLED:
            values = [by_key["basins", one][column] for one in (kept, *others)]
            blank = [is_blank(value, texts=filling == "blank") for value in values]
            if blank[0] and not all(blank):
                found[kept, column] = values[blank.index(False)]
    return found


def _collisions(moved: dict[Any, Row], by_key: dict[Any, Row]) -> dict[Any, Any]:
    """The rows that have the unique values of another one, each with that one: it had them before,
    or comes first."""
    found: dict[Any, Any] = {}
    for name, columns in UNIQUE.items():
        places: dict[Any, list[Any]] = {}
        for key, row in moved.items():
            values = tuple(row[column] for column in columns) if key[0] == name else (None,)
            if None not in values:
                was_there = values == tuple(by_key[key][column] for column in columns)
                places.setdefault(values, []).append((not was_there, key))
        for rows in places.values():
            first, *others = sorted(rows)
            found |= {key: first[1] for _, key in others}
    return found
