"""The seal of a step: how many rows its preview held, and a fingerprint of exactly which.

It covers keys and actions, not contents. It is the same in whatever order and by whatever client the rows are read.
"""

from __future__ import annotations

import json
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from hashlib import blake2b
from typing import Any

from yeldro.core.database import Database, KeySet
from yeldro.core.reach import Reach, root_keys

_BITS = 128


@dataclass(frozen=True, slots=True)
class Seal:
    """`matched` rows of `rows` in the reach; `fingerprint` is a number of 128 bits, in hexadecimal digits."""

    matched: int
    rows: int
    fingerprint: str


@dataclass(frozen=True, slots=True)
class Sealed:
    """One row under a seal: what happens to it, its key as the database knows it, and as a person would read it."""

    action: str
    image: str
    key: str


@dataclass(frozen=True, slots=True)
class Change:
    """Rows of one action that came or went: how many, and the first keys."""

    action: str
    rows: int
    keys: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class Difference:
    """What came into a reach since it was sealed, and what left it, matched rows first.

    `is_known` is false where the rows that were sealed are not known any more.
    """

    came: tuple[Change, ...] = ()
    went: tuple[Change, ...] = ()
    is_known: bool = True

    @property
    def rows(self) -> tuple[int, int]:
        return sum(one.rows for one in self.came), sum(one.rows for one in self.went)


def list_sealed(database: Database, reach: Reach) -> Iterator[Sealed]:
    """Every row of a reach, once for each thing that happens to it, streamed inside the open transaction.

    Of the rows of the selection's own table, those that only hang on matched ones are told apart.
    """
    root = root_keys(reach)
    for action, keys in _find_actions(reach):
        apart = keys is root and not (keys.new or keys.alike)  # surplus rows are told by what they lead to
        for image, *cells in database.find_images(keys, find_telling(keys), apart=apart):
            shown = ", ".join(map(_write, cells[1:])) if cells else image.replace("\t", ", ")
            yield Sealed(action if not cells or cells[0] else f"{action}, hanging on them", image, shown)


def find_telling(keys: KeySet) -> tuple[str, ...]:
    """The columns that tell rows apart for good; all, where nothing does."""
    table = keys.table
    return table.identity if table.lasting_keys[:1] == (table.identity,) else table.column_names


def _find_actions(reach: Reach) -> Iterator[tuple[str, KeySet]]:
    """Matched rows stand last."""
    for one in reach.detached:
        yield f"detach {one.reference}", one.keys
    for change in reach.changes:
        yield f"{change.action} {change.table.label} ({', '.join(change.columns)})", change.keys
    for keys, rows in reach.deleted:
        if rows:
            yield f"delete {keys.table.label}", keys


def _write(value: Any) -> str:
    if isinstance(value, bytes | memoryview):
        return bytes(value).hex()
    return json.dumps(value, ensure_ascii=False) if value is None or isinstance(value, bool) else str(value)


class Sealing:
    """Makes a seal of the rows that pass through it."""

    def __init__(self) -> None:
        self._total = self._rows = 0

    def watch(self, rows: Iterable[Sealed]) -> Iterator[Sealed]:
        for one in rows:
            digest = blake2b(f"{one.action}\0{one.image}".encode(), digest_size=_BITS // 8).digest()
            self._total = (self._total + int.from_bytes(digest)) % (1 << _BITS)
            self._rows += 1
            yield one

    def make(self, matched: int) -> Seal:
        return Seal(matched, self._rows, f"{self._total:0{_BITS // 4}x}")


def make_seal(database: Database, reach: Reach) -> Seal:
    """Look at every row of a reach inside the open transaction."""
    sealing = Sealing()
    for _ in sealing.watch(list_sealed(database, reach)):
        pass
    return sealing.make(reach.matched)
