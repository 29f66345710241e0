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


def size_text(size: int) -> str:
    """`12 B`, `3.4 KiB`; "" for nothing."""
    if not size:
        return ""
    amount, unit = float(size), "B"
    for bigger in ("KiB", "MiB", "GiB"):
        if amount < 1024:
            break
        amount, unit = amount / 1024, bigger
    return f"{amount:.0f} {unit}" if unit == "B" else f"{amount:.1f} {unit}"
