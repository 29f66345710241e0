"""Numbers with their nouns."""

from __future__ import annotations

from collections.abc import Sequence


def enumerate_words(words: Sequence[str]) -> str:
    """`case`, `case and spaces`, `case, spaces and accents`."""
    *first, last = words
    return f"{', '.join(first)} and {last}" if first else last


def count(number: int, noun: str) -> str:
    """`1 row`, `2 rows`."""
    return f"{number:,} {noun}{'' if number == 1 else 's'}"
