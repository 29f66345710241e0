"""Finding a thing by the name that a person typed: exactly, in another case, or nearly."""

from __future__ import annotations

import difflib
from collections.abc import Iterable


def nearest(text: str, names: Iterable[str], what: str) -> str:
    """A hint with the names most like `text`, or the first few where none is like it."""
    names = list(names)
    lowered = {name.lower(): name for name in names}
    close = difflib.get_close_matches(text.lower(), lowered, n=3, cutoff=0.5)
    if close:
        return f"The nearest names are: {', '.join(lowered[name] for name in close)}."
    if not names:
        return f"There are no {what} at all."
    more = f" and {len(names) - 8} more" if len(names) > 8 else ""
    return f"The {what} are: {', '.join(names[:8])}{more}."
