"""Finding a thing by the name that a person typed: exactly, in another case, or nearly."""

from __future__ import annotations

import difflib
from collections.abc import Callable, Iterable
from typing import TypeVar

T = TypeVar("T")


def fold(names: Iterable[str]) -> dict[str, str]:
    """Names by their lower case, to find one that was written in another case. A single name is
    none of its letters: TypeError."""
    if isinstance(names, str):
        raise TypeError(names)
    return {name.lower(): name for name in names}


def find_named(text: str, things: Iterable[T], names_of: Callable[[T], Iterable[str]]) -> list[T]:
    """The things that a person may mean: the one that has exactly this name, else all that have it
    in another case."""
    named = [(thing, list(names_of(thing))) for thing in things]
    exact = [thing for thing, names in named if text in names]
    return exact[:1] or [thing for thing, names in named if text.lower() in fold(names)]


def nearest(text: str, names: Iterable[str], what: str) -> str:
    """A hint with the names most like `text`, or the first few where none is like it."""
    names = list(names)
    lowered = fold(names)
    close = difflib.get_close_matches(text.lower(), lowered, n=3, cutoff=0.5)
    if close:
        return f"The nearest names are: {', '.join(lowered[name] for name in close)}."
    if not names:
        return f"There are no {what} at all."
    more = f" and {len(names) - 8} more" if len(names) > 8 else ""
    return f"The {what} are: {', '.join(names[:8])}{more}."
