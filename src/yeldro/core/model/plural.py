"""Numbers with their nouns."""

from __future__ import annotations


def count(number: int, noun: str) -> str:
    """`1 row`, `2 rows`."""
    return f"{number:,} {noun}{'' if number == 1 else 's'}"
