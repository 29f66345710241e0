"""A cleanup as the statements that it consists of: what a script is written from."""

from __future__ import annotations

from collections.abc import Sequence
from enum import Enum

from msgspec import Struct, field

from yeldro.core.run.preview import Preview


class Role(Enum):
    """What an entry is for."""

    MAKE = "makes a table that the script needs"
    CHANGE = "changes rows, of a table or of a key table"
    SELECT = "shows rows to a person"
    CHECK = "counts something that must be so"
    PLAIN = "is sent as it is"


class Entry(Struct, frozen=True):
    """One statement. `rows` is what it must touch, or what it must count; None where any number is
    right.

    `name` is that of a temporary table that a MAKE makes, as it stands in a statement; one that is
    `lasting` makes a table that stays, in which rows are kept. `comment` says what it is for; it is
    `told` where that was not said of the entry before.
    """

    role: Role
    text: str
    comment: str = ""
    told: bool = True
    rows: int | None = None
    lasting: bool = False
    name: str = ""


class WrittenStep(Struct, frozen=True):
    """The statements of one step, in order, and what they were written from."""

    preview: Preview
    entries: Sequence[Entry] = field(default_factory=tuple)


class Writing(Struct, frozen=True):
    """A whole cleanup. `settings` are for the connection, `start` opens the transaction, `after`
    follows the commit."""

    dialect: str
    database: str
    settings: Sequence[str]
    start: Sequence[Entry]
    steps: Sequence[WrittenStep]
    after: Sequence[str] = ()
