"""When the next batch begins, and whether one that failed is tried again."""

from __future__ import annotations

import time
from collections.abc import Sequence

from yeldro.core.database.connection import Database
from yeldro.core.database.followers import Follower
from yeldro.core.model.plural import count
from yeldro.core.run.batching import Pace, Progress, Size, Stopwatch
from yeldro.errors import Conflict, Interrupted, TooLarge, YeldroError
from yeldro.usecases.answers import BatchAnswers
from yeldro.usecases.followers import Followers

# So often a batch is tried again that somebody else was in the way of, after a pause in seconds.
_TRIES, _PAUSE = 5, 0.2
# Seconds between two looks at servers that are behind.
_LOOKS = 0.2


class Pacing:
    """That of one run. `done` counts the batches that it has committed."""

    def __init__(
        self, pace: Pace, database: Database, followers: Sequence[Follower], answers: BatchAnswers
    ) -> None:
        self.pace = pace
        self.answers = answers
        self.followers = Followers(database, followers)
        self.watch = Stopwatch(pace.limit)
        self.done = 0
        self.lag: float | None = None
        """How far behind the furthest was when it was last looked, None where nobody looks."""
        self._conflicts = 0

    def begin(self) -> None:
        """Before anything is shown. UsageError where there is nobody to look at."""
        if self.pace.behind is not None:
            self.followers.begin()

    def find_pause(self, progress: Progress) -> str:
        """Why no other batch begins, "" where one does. Interrupted where a person wants that."""
        if self.pace.pause and self.done:
            time.sleep(self.pace.pause)
        if self.pace.behind is not None and (reason := self._wait(self.pace.behind, progress)):
            return reason
        if self.answers.wants_to_stop():
            raise Interrupted("Interrupted between two batches.")
        if self.pace.batches is not None and self.done >= self.pace.batches:
            return f"{count(self.done, 'batch')} {'was' if self.done == 1 else 'were'} asked for."
        if self.watch.is_over:
            return "The time for it is over."
        return ""

    def _wait(self, limit: float, progress: Progress) -> str:
        """Until none is further behind than half of a limit, once one is. Returns why it cannot be
        told, "" where it can."""
        self.followers.mark()
        low = limit / 2
        while not (lag := self.followers.find_lag()).fault and lag.seconds > limit:
            self.answers.waiting(lag.name, lag.seconds, progress)
            time.sleep(_LOOKS)
            if self.answers.wants_to_stop() or self.watch.is_over:
                break
            limit = low
        self.lag = lag.seconds
        return f"How far {lag.name} is behind cannot be told: {lag.fault}." if lag.fault else ""

    def committed(self) -> None:
        self.done += 1
        self._conflicts = 0

    def goes_again(self, error: YeldroError, size: Size) -> bool:
        """Whether a batch that failed goes again once it is rolled back: a smaller one where it was
        too large, the same after a rest where somebody was in the way."""
        if _is(error, TooLarge):
            return size.cut()
        self._conflicts += 1
        return _is(error, Conflict) and self._conflicts < _TRIES

    def rest(self) -> bool:
        """Whoever was in the way has gone on by then. Returns whether somebody was."""
        if self._conflicts:
            time.sleep(_PAUSE * 2 ** (self._conflicts - 1))
        return self._conflicts > 0


def _is(error: YeldroError, kind: type[YeldroError]) -> bool:
    """Whether it is of a kind, or comes from one: of a commit too."""
    return isinstance(error, kind) or isinstance(error.__cause__, kind)
