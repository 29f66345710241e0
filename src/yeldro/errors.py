"""The error tree. Exit status and kind of trouble live in the class, the facts in the instance.

    YeldroError            1   an unexpected error
    ├── UsageError         2   wrong usage: nothing was begun
    ├── Refused            3   a guard, a stop or a tally that does not balance
    ├── Declined           4   the person said no
    ├── DatabaseFailed     5   the database refused, timed out or could not be reached
    │   ├── BadStatement       the database could not make sense of a statement
    │   ├── NotCommitted       the database itself said that it did not commit
    │   ├── NotAllowed         the account lacks a right
    │   ├── Conflict           another session was in the way: it may be tried again
    │   │   └── Locked         it held a lock for too long
    │   ├── TooLarge           a transaction is larger than the server allows: a smaller one may go
    │   ├── TookTooLong        a statement took longer than we, or the server, allow
    │   └── ArchiveFailed      the archive or the run record cannot be written or read
    └── Interrupted      130   Ctrl-C

A message says what was wrong and where, a hint what to do. Neither holds row data or a password.
"""

from __future__ import annotations

from typing import ClassVar


class YeldroError(Exception):
    """Something that ends the command. `message` is one sentence, `hint` (or "") what to do about
    it."""

    status: ClassVar[int] = 1

    def __init__(self, message: str, hint: str = "") -> None:
        super().__init__(message)
        self.message = message
        self.hint = hint


class UsageError(YeldroError):
    status = 2


class Refused(YeldroError):
    status = 3


class Declined(YeldroError):
    status = 4


class DatabaseFailed(YeldroError):
    status = 5


class BadStatement(DatabaseFailed):
    pass


class ConstraintBroken(DatabaseFailed):
    """A constraint does not let a value, or a row, be so."""


class NotCommitted(DatabaseFailed):
    pass


class NotAllowed(DatabaseFailed):
    pass


class Conflict(DatabaseFailed):
    pass


class Locked(Conflict):
    pass


class TooLarge(DatabaseFailed):
    pass


class TookTooLong(DatabaseFailed):
    pass


class ArchiveFailed(DatabaseFailed):
    pass


class OutputClosed(Exception):
    """Nobody reads standard output any more, as after `| head`. What was read was right."""


class Interrupted(YeldroError):
    status = 130
