"""Servers that follow the one that is changed: replicas, standbys and other nodes of a cluster."""

from __future__ import annotations

from typing import Protocol

from msgspec import Struct


class Sighting(Struct, frozen=True):
    """How far one of them was when it was looked at.

    `position` is how far it had come, as the server that is changed counts; `seconds` is how far
    behind it says that it is. `fault` is why neither can be told, "" where it can.
    """

    name: str
    position: int | None = None
    seconds: float | None = None
    fault: str = ""


class Follower(Protocol):
    """One of them, over a connection of its own."""

    def look(self) -> Sighting:
        """What goes wrong with it is a fault, and no error."""
        ...

    def close(self) -> None: ...
