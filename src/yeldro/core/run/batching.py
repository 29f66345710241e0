"""How many rows each batch takes, and how far a run in batches has come."""

from __future__ import annotations

import time
from collections.abc import Callable

from msgspec import Struct

# What `auto` begins with, in rows of the reach.
START = 5_000
# However little time a batch takes, it grows no faster than this.
_FASTEST = 2.0
# The next one may take longer than the last, and is not to hold its locks for more than was said.
_AIM = 0.8
# So many count, so that some fast ones do not make the next too large. The slowest of them does
# not: a single one may have waited for a disk.
_REMEMBERED = 20


class Pace(Struct, frozen=True):
    """How the batches follow each other. `rows` is how many rows of the reach one may have, None
    where it adapts to `hold`, how many seconds one may take.

    `pause` is between them; `limit` is how many seconds new ones may begin, `batches` how many.
    With `behind` none begins while a server that follows this one is so many seconds behind.
    `even_if_changed`: rows go by their keys alone, whatever became of them.
    """

    rows: int | None = None
    hold: float = 0.25
    pause: float = 0.0
    limit: float | None = None
    batches: int | None = None
    behind: float | None = None
    even_if_changed: bool = False


class Size(Struct):
    """How many matched rows the next batch tries to take.

    `rows` is how many rows of the reach one may have; with `hold` seconds it changes, so that a
    batch takes about as long. `share` is how many rows of the reach come with one matched row.
    `most` is what `rows` never grows beyond, None where nothing is known to be too many; `each` is
    how many seconds a row took in each of the last batches.
    """

    rows: int
    share: float
    hold: float | None = None
    most: int | None = None
    each: tuple[float, ...] = ()

    @property
    def matched(self) -> int:
        return max(1, int(self.rows / max(self.share, 1.0)))

    def shrink(self, taken: int, rows: int) -> int:
        """How many matched rows to try instead of `taken` ones, which were `rows` of the reach."""
        return max(1, min(taken - 1, int(taken * self.rows / rows * 0.9)))

    def cut(self) -> bool:
        """So many rows were too many for the server. Returns whether fewer could do."""
        self.most = self.rows = self.rows // 2
        return self.rows > 0

    def learn(self, taken: int, rows: int, seconds: float) -> None:
        """From a batch that was committed."""
        self.share = max(1.0, rows / max(1, taken))
        if self.hold and seconds > 0:
            # A small batch at the end says little about larger ones.
            is_small = rows <= self.rows / 2
            now = seconds / (self.rows if is_small else rows)
            self.each = (*self.each, now)[-_REMEMBERED:]
            slow = sorted(self.each)[-2:][0]
            wanted = round(_AIM * self.hold / slow)
            wanted = min(int(_FASTEST * self.rows), max(self.rows // 4, wanted))
            if not is_small or wanted < self.rows:
                self.rows = max(1, min(wanted, self.most or wanted))


class Progress(Struct, frozen=True):
    """How far it is: `batches` were committed, which took `done` of the `total` rows that were
    chosen, or groups of them, and touched `rows` in all. In the end `left` of the chosen rows are
    still there: they no longer matched."""

    batches: int
    done: int
    total: int
    rows: int = 0
    left: int = 0
    what: str = "chosen row"


class Stopwatch:
    """Until when new batches may begin. `clock` gives seconds."""

    def __init__(self, limit: float | None, clock: Callable[[], float] = time.monotonic) -> None:
        self.clock = clock
        self.end = None if limit is None else clock() + limit

    @property
    def is_over(self) -> bool:
        return self.end is not None and self.clock() >= self.end
