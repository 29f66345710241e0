"""How far behind the servers are that follow the one that is changed."""

from __future__ import annotations

import time
from collections import Counter, deque
from collections.abc import Callable, Sequence

from msgspec import Struct

from yeldro.core.database.connection import Database
from yeldro.core.database.followers import Follower, Sighting
from yeldro.errors import UsageError


class Lag(Struct, frozen=True):
    """Of the one that is furthest behind. `fault` is why it cannot be told, "" where it can."""

    name: str
    seconds: float = 0.0
    fault: str = ""


class Followers:
    """Those that the database knows of, and those that are `watched`.

    A mark is how far the database had come at some time. Whoever has not come so far is behind by
    the time that has passed since, whatever the clocks of the servers say.
    """

    def __init__(
        self,
        database: Database,
        watched: Sequence[Follower],
        clock: Callable[[], float] = time.monotonic,
    ) -> None:
        self.database = database
        self.watched = watched
        self.clock = clock
        self._marks: deque[tuple[float, int]] = deque()
        self._known: Counter[str] = Counter()

    def begin(self) -> None:
        """UsageError where there is nobody to look at."""
        self.mark()
        self._known = Counter(one.name for one in self._look())
        if not self._known:
            raise UsageError(
                "--behind needs a replica to look at, and this database knows of none.",
                'Name them in yeldro.toml: watch = ["URL"] under the database.',
            )

    def mark(self) -> None:
        """The database has come further."""
        place = self.database.find_position()
        if place is not None:
            self._marks.append((self.clock(), place))

    def find_lag(self) -> Lag:
        """Of the furthest behind. One that is gone cannot be told."""
        seen = self._look()
        gone = self._known - Counter(one.name for one in seen)
        if gone:
            return Lag(min(gone), fault="it is not connected any more")
        self._forget(seen)
        lags = [Lag(one.name, self._find_seconds(one), one.fault) for one in seen]
        return max(lags, key=lambda lag: (bool(lag.fault), lag.seconds))

    def _look(self) -> list[Sighting]:
        return [*self.database.find_followers(), *(one.look() for one in self.watched)]

    def _forget(self, seen: Sequence[Sighting]) -> None:
        """What everybody has reached."""
        places = [one.position for one in seen if one.position is not None]
        while self._marks and (not places or self._marks[0][1] <= min(places)):
            self._marks.popleft()

    def _find_seconds(self, seen: Sighting) -> float:
        """Until it has reached the oldest mark."""
        told = seen.seconds or 0.0
        if seen.position is None:
            return told
        missed = next((at for at, place in self._marks if place > seen.position), None)
        return told if missed is None else max(told, self.clock() - missed)
