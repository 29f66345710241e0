"""Numbers with their nouns."""

from __future__ import annotations

from collections.abc import Sequence


def enumerate_words(words: Sequence[str]) -> str:
    """`case`, `case and spaces`, `case, spaces and accents`."""
    *first, last = words
    return f"{', '.join(first)} and {last}" if first else last


def count(number: int, noun: str) -> str:
    """`1 row`, `2 rows`, `2 batches`."""
    if noun.endswith("ch"):
        noun += "" if number == 1 else "e"
    return f"{number:,} {noun}{'' if number == 1 else 's'}"


def percent(part: int, whole: int) -> str:
    """A share that is never 0.0 % where there is something, nor 100.0 % where something is left."""
    share = 100 * part / whole
    if part and share < 0.1:
        return "< 0.1 %"
    if part < whole and share > 99.9:
        return "> 99.9 %"
    return f"{share:.1f} %"
