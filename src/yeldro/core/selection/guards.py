"""Limits that stop a run before it commits."""

from __future__ import annotations

import re
from collections.abc import Callable, Collection, Mapping, Sequence
from typing import Any

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
    knows that triggers do what no rollback takes back. `allow_trigger` holds the names of triggers
    that may change or delete rows beyond the reach."""

    expect: Expected | None = None
    max_rows: int | None = None
    max_share: float | None = None
    strict: frozenset[str] = frozenset()
    no_rollback: bool = False
    allow_trigger: frozenset[str] = frozenset()


def make_guards(
    values: Mapping[str, Any],
    read_strict: Callable[[Sequence[str]], frozenset[str]],
    *,
    no_rollback: bool = False,
) -> Guards:
    """The guards that some limits ask for, by their names, None for one that nobody set. A limit
    that there is no guard for would be believed, and not kept: TypeError."""
    readers: dict[str, Callable[[Any], Any]] = {
        "expect": lambda value: read_expected(str(value)),
        "strict": read_strict,
        "allow_trigger": lambda value: frozenset(
            name.strip() for text in value for name in text.split(",")
        ),
    }
    wanted: dict[str, Any] = {
        name: readers[name](value) if name in readers else value
        for name, value in values.items()
        if value is not None
    }
    return Guards(**wanted, no_rollback=no_rollback)


def check_enforced(guards: Guards, known: Collection[str]) -> None:
    """UsageError for a guard that is set, and that whoever asks does not know how to keep."""
    usual = Guards()
    for name in Guards.__struct_fields__:
        if name not in known and getattr(guards, name) != getattr(usual, name):
            raise UsageError(f"{name} cannot be kept here.", "Take the limit out.")
