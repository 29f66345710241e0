"""The person, or a script, on the other side of a run."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Protocol

from yeldro.core.run.batching import Progress
from yeldro.core.run.forecast import Forecast
from yeldro.core.run.outcome import Outcome as Outcome
from yeldro.core.run.preview import Preview
from yeldro.core.run.tally import Tally


class BatchAnswers(Protocol):
    """On the other side of batches."""

    def begin_batches(self) -> None:
        """From here on a first interrupt lets the batch finish that is under way, and a second one
        rolls it back."""
        ...

    def batch_done(self, progress: Progress) -> None:
        """Told after each commit."""
        ...

    def waiting(self, name: str, seconds: float, progress: Progress) -> None:
        """Told now and then while a server that follows this one is so far behind."""
        ...

    def wants_to_stop(self) -> bool:
        """Whether there was an interrupt."""
        ...


class Answers(BatchAnswers, Protocol):
    """The person, or a script, on the other side."""

    def show(self, preview: Preview) -> None: ...

    def show_forecast(self, found: Forecast) -> None: ...

    def allow(self, previews: Sequence[Preview]) -> bool:
        """Asked once before anything is changed, outside of any transaction; with a preview for
        each step."""
        ...

    def allow_more(self, preview: Preview, rows: int) -> bool:
        """Asked inside the transaction, where earlier steps brought rows into a later one that were
        not shown."""
        ...

    def allow_commit(self, tally: Tally) -> bool:
        """Asked with the balanced tally in hand, while the transaction is open."""
        ...

    def copying(self, rows: int, total: int) -> None:
        """Told now and then how many of the rows are in the archive."""
        ...

    def committing(self) -> None:
        """Told right before the commit: from here on an interrupt comes too late and must not be
        raised."""
        ...
