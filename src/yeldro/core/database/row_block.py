"""Archived rows, many at a time, as they lie in the archive: a JSON array of rows of texts and
nulls.

A server is sent them in its own form. Where that differs from JSON in few signs, the text is
rewritten as a whole, which is many times as fast as row by row.
"""

from __future__ import annotations

import json
import re
from collections.abc import Callable, Sequence
from pathlib import Path

from yeldro.errors import ArchiveFailed

Cells = Sequence[str | None]

# Signs that JSON cannot hold as they are, so that they can stand for an escaped backslash and an
# escaped quote meanwhile.
_BACKSLASH, _QUOTE = "\x01", "\x02"
_NULLS = r"(?:null(?:,|\],\[))*"
_BETWEEN = re.compile(rf"(?:\[\[|,|\],\[){_NULLS}|(?:(?:,|\],\[)null)*\]\]")
_UNUSUAL = re.compile(r"\\[^bfnrt]")


class RowBlock:
    """Some rows of the archive at `path`. ArchiveFailed where the text is no such array."""

    def __init__(self, text: str, path: Path) -> None:
        self.text = text
        self.damage = ArchiveFailed(f"The archive {path} is damaged: its rows cannot be read.")

    def read(self) -> list[Cells]:
        """The rows one by one."""
        try:
            rows: list[Cells] = json.loads(self.text)
        except (ValueError, RecursionError):
            raise self.damage from None
        if not all(isinstance(row, list) for row in rows):
            raise self.damage
        return rows

    @property
    def is_plain(self) -> bool:
        """Whether no text holds a backslash or a control character."""
        return "\\" not in self.text.replace('\\"', "")

    def rewrite(
        self,
        between: Callable[[str], str],
        *,
        quote: str,
        escaped_quote: str,
        unusual: re.Pattern[str] = _UNUSUAL,
    ) -> str | None:
        """The block in another form, None where that takes more than this.

        `between` turns what stands between two texts: brackets, commas and nulls. `quote` stands
        around each text then, and `escaped_quote` for a quote within one. Other escapes stay as
        they are: a block that holds an `unusual` one is not rewritten.
        """
        text = self.text
        if _BACKSLASH in text or _QUOTE in text:
            raise self.damage
        if "\\" in text:
            text = text.replace("\\\\", _BACKSLASH).replace('\\"', _QUOTE)
            if unusual.search(text):
                return None
        parts = text.split('"')
        known = _Between(between, self.damage)
        if len(parts) < 3 or not len(parts) % 2:
            return None
        parts[0::2] = map(known.__getitem__, parts[0::2])
        return quote.join(parts).replace(_BACKSLASH, "\\\\").replace(_QUOTE, escaped_quote)


class _Between(dict[str, str]):
    """What has been turned already. Every table has few different ones."""

    def __init__(self, turn: Callable[[str], str], damage: ArchiveFailed) -> None:
        super().__init__()
        self.turn = turn
        self.damage = damage

    def __missing__(self, text: str) -> str:
        if not _BETWEEN.fullmatch(text):
            raise self.damage
        self[text] = turned = self.turn(text)
        return turned
