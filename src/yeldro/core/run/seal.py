"""The seal of a step: how many rows its preview held, and a fingerprint of exactly which.

It covers keys and actions, not contents. It is the same in whatever order and by whatever client
the rows are read.
"""

from __future__ import annotations

import json
from collections.abc import Iterable, Iterator, Mapping
from hashlib import blake2b
from typing import Any

from msgspec import Struct, field

from yeldro.core.database.connection import Database
from yeldro.core.model.key_set import AlikeRows, KeySet, StoredKeys
from yeldro.core.reach.reach import Reach, root_keys
from yeldro.core.run.archive_pieces import find_lasting_key

# Wide enough that no two sets of rows share a fingerprint by chance, small enough for a line of a
# file.
_BITS = 128
# Fingerprints are made over this, so it stays as it was in files that were sealed once.
DEPENDING = ", hanging on them"


class Seal(Struct, frozen=True):
    """`matched` rows of `rows` in the reach; `fingerprint` is a number of 128 bits, in hexadecimal
    digits. `values` are the days that parameters meant when it was made, where these are written by
    their distance from today."""

    matched: int
    rows: int
    fingerprint: str
    values: Mapping[str, str] = field(default_factory=dict)

    def is_on_same_rows(self, other: Seal) -> bool:
        return self.fingerprint == other.fingerprint and self.counts == other.counts

    @property
    def counts(self) -> tuple[int, int]:
        return self.matched, self.rows


class Sealed(Struct, frozen=True):
    """One row under a seal: what happens to it, its key as the database knows it, and as a person
    would read it."""

    action: str
    image: str
    key: str


class Change(Struct, frozen=True):
    """Rows of one action that came or went: how many, and the first keys."""

    action: str
    rows: int
    keys: tuple[str, ...]


class Difference(Struct, frozen=True):
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
    """Every row of a reach, once for each thing that happens to it, streamed inside the open
    transaction.

    Of the rows of the selection's own table, those that only hang on matched ones are told apart.
    """
    for actions, keys, apart in _find_actions(reach):
        columns = _find_telling(database, keys)
        for image, *cells in database.archive.find_images(
            keys, columns, apart=apart, shown=columns
        ):
            shown = ", ".join(map(_write, cells[1:])) if cells else image.replace("\t", ", ")
            yield Sealed(actions[cells[0] if cells else 1], image, shown)


def _find_telling(database: Database, keys: KeySet) -> tuple[str, ...]:
    """The columns that tell rows apart for good; all, where nothing does."""
    return find_lasting_key(database, keys) or keys.table.column_names


def _find_actions(reach: Reach) -> Iterator[tuple[tuple[str, str], KeySet, bool]]:
    """What happens to the rows of a key set, and to the matched ones among them; whether these are
    to be told apart.

    Matched rows stand last.
    """
    for one in reach.detached:
        yield (f"detach {one.reference}",) * 2, one.keys, False
    for change in reach.changes:
        yield (
            (f"{change.action} {change.table.label} ({', '.join(change.columns)})",) * 2,
            change.keys,
            False,
        )
    root = root_keys(reach)
    for keys, rows in reach.deleted:
        if rows:
            action = f"delete {keys.table.label}"
            apart = keys is root and not _is_surplus(keys)
            yield (f"{action}{DEPENDING}" if apart else action, action), keys, apart


def _is_surplus(keys: KeySet) -> bool:
    """Whether these are surplus rows, which are told by what they lead to."""
    return isinstance(keys, AlikeRows) or (isinstance(keys, StoredKeys) and bool(keys.new))


def _write(value: Any) -> str:
    if isinstance(value, bytes | memoryview):
        return bytes(value).hex()
    return (
        json.dumps(value, ensure_ascii=False)
        if value is None or isinstance(value, bool)
        else str(value)
    )


class Sealing:
    """Makes a seal of the rows that pass through it."""

    def __init__(self) -> None:
        self._total = self._rows = 0

    def watch(self, rows: Iterable[Sealed]) -> Iterator[Sealed]:
        for one in rows:
            self.add(_start(one.action), one.image)
            yield one

    def add(self, start: blake2b, image: str) -> None:
        digest = start.copy()
        digest.update(image.encode())
        self._total += int.from_bytes(digest.digest())
        self._rows += 1

    def make(self, matched: int) -> Seal:
        return Seal(matched, self._rows, f"{self._total % (1 << _BITS):0{_BITS // 4}x}")


def _start(action: str) -> blake2b:
    return blake2b(f"{action}\0".encode(), digest_size=_BITS // 8)


def make_seal(database: Database, reach: Reach) -> Seal:
    """Look at every row of a reach inside the open transaction."""
    sealing = Sealing()
    for actions, keys, apart in _find_actions(reach):
        starts = [_start(action) for action in actions]
        for image, *cells in database.archive.find_images(
            keys, _find_telling(database, keys), apart=apart
        ):
            sealing.add(starts[cells[0] if cells else 1], image)
    return sealing.make(reach.touched)
