"""Limits that stop a run before it commits."""

from __future__ import annotations

import re

from msgspec import Struct

from yeldro.errors import UsageError


class Expected(Struct, frozen=True):
    """A range of counts; None is an open end."""

    low: int | None
    high: int | None

    def holds(self, count: int) -> bool:
        return (self.low is None or count >= self.low) and (self.high is None or count <= self.high)

    @property
    def number(self) -> int:
        """1 for exactly one, else 2: it decides the form of the words that go with it."""
        return 1 if self.low == self.high == 1 else 2

    def __str__(self) -> str:
        if self.low == self.high:
            return str(self.low)
        return f"{'' if self.low is None else self.low}..{'' if self.high is None else self.high}"


def read_expected(text: str) -> Expected:
    """Read `N`, `A..B`, `A..` or `..B`. UsageError where it is none of them or the ends are the
    wrong way round."""
    single = re.fullmatch(r"\s*(\d+)\s*", text)
    if single:
        return Expected(int(single[1]), int(single[1]))
    span = re.fullmatch(r"\s*(\d*)\s*\.\.\s*(\d*)\s*", text)
    low, high = (int(end) if end else None for end in span.groups()) if span else (None, None)
    if (low is None and high is None) or (low is not None and high is not None and low > high):
        raise UsageError(
            f"--expect {text!r} is not a count or a range.", "Write N, A..B, A.. or ..B."
        )
    return Expected(low, high)


class Guards(Struct, frozen=True):
    """`max_rows` counts all rows of the reach; `max_share` is a percentage of the deleted rows of
    any one table; `strict` holds the names of the cautions that stop. `no_rollback`: the person
    knows that triggers do what no rollback takes back."""

    expect: Expected | None = None
    max_rows: int | None = None
    max_share: float | None = None
    strict: frozenset[str] = frozenset()
    no_rollback: bool = False
