"""What happens to a row."""

from __future__ import annotations

from enum import StrEnum


class Action(StrEnum):
    """What happens to a row of the reach. To move is to point its reference at a kept row, to clear
    is to remove what it holds."""

    DELETE = "delete"
    DETACH = "detach"
    MOVE = "move"
    FILL = "fill"
    CLEAR = "clear"
    STOP = "stop"
