"""What a database is busy with, for somebody who waits."""

from __future__ import annotations

from collections.abc import Callable
from enum import Enum


class Phase(Enum):
    """The stages of the work that may take long. Each is announced with the table it is at."""

    MATCHING = "matching"
    FOLLOWING = "following"
    LOOKING = "looking"
    GROUPING = "grouping"
    DELETING = "deleting"
    CHANGING = "changing"
    CHECKING = "checking"
    COMMITTING = "committing"
    WAITING = "waiting"
    COMPARING = "comparing"
    RESTORING = "restoring"


Announce = Callable[[Phase, str, int | None], None]
"""Told the phase, the label of the table, and how many rows it is about, where that is known."""


def tell_nobody(phase: Phase, label: str = "", rows: int | None = None) -> None:
    """Where nobody waits."""
