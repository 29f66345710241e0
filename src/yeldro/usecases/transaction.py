"""Transactions that look, and how a fault ends one that changes rows."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager

from msgspec import Struct

from yeldro.core.database.abilities import Mode
from yeldro.core.database.connection import Database
from yeldro.core.model.key_set import KeySet
from yeldro.core.run.outcome import Outcome as Outcome
from yeldro.core.run.outcome import RunResult
from yeldro.errors import (
    Interrupted,
    NotCommitted,
    OutputClosed,
    UsageError,
    YeldroError,
)


def carry_out(
    database: Database, work: Callable[[], RunResult], failed: Callable[[YeldroError], RunResult]
) -> RunResult:
    """Do it, and roll back whatever stops it. What is wrong usage, or a fault of ours, is no
    result."""
    try:
        return work()
    except KeyboardInterrupt:
        error: YeldroError = Interrupted("Interrupted.")
    # Nobody would see how it ended, so it does not go on.
    except OutputClosed:
        error = Interrupted("Nobody reads the output any more.")
    # Wrong usage has no outcome: nothing was begun.
    except UsageError:
        undo(database)
        raise
    except YeldroError as found:
        error = found
    except BaseException:
        undo(database)
        raise
    undo(database)
    return failed(error)


def undo(database: Database) -> None:
    """Roll back without letting a second fault hide the first: a connection that is closed rolls
    back by itself."""
    try:
        database.rollback()
    except YeldroError:
        database.close()


@contextmanager
def looking(database: Database) -> Iterator[list[KeySet]]:
    """A transaction that cannot change anything. Key sets that are put into the list outlive it."""
    kept: list[KeySet] = []
    database.begin(Mode.READ)
    try:
        yield kept
    except BaseException:
        undo(database)
        raise
    # Not in a `finally`: after a fault nothing may be kept.
    database.end_look(kept)


class LifeCycle(Struct):
    """How far a run, or a restoration, has come: `shown` to a person, `begun` to change rows,
    `is_final` once a commit may have been made. It decides how a fault ends it."""

    shown: bool = False
    begun: bool = False
    is_final: bool = False

    def find_outcome(self, error: YeldroError) -> Outcome:
        """How it ended. What failed before anything was shown is no run: the error itself tells
        it."""
        if not self.begun and not self.shown:
            raise error
        if isinstance(error, NotCommitted):
            self.is_final = False  # the database itself said so: there is no doubt any more
        # After the commit was sent, an error says nothing about what the server did.
        if self.is_final:
            return Outcome.IN_DOUBT
        return Outcome.ROLLED_BACK if self.begun else Outcome.STOPPED
