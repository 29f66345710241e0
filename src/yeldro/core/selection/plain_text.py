"""Texts without what is ignored: one meaning, whatever the engine."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Collection

from yeldro.core.selection.grouping import Ignored

# All white space of Unicode (White_Space=yes), and the separators of ASCII (U+001C to U+001F).
_SPACE = re.compile(r"\s+")
# All that Python takes for white space, the same on every engine: theirs differ.
WHITE = "".join(filter(str.isspace, map(chr, range(0x3001))))


def make_plain(text: str, ignored: Collection[Ignored]) -> str:
    """Case folded by Unicode's full case folding; accents, the nonspacing marks of the decomposed
    text, removed; white space trimmed and collapsed to one blank. What is not ignored stays; texts
    that Unicode holds for the same characters (NFC and NFD) are the same once anything but white
    space is ignored.
    """
    if Ignored.ACCENTS in ignored:
        text = "".join(
            sign
            for sign in unicodedata.normalize("NFD", text)
            if unicodedata.category(sign) != "Mn"
        )
    if Ignored.CASE in ignored:
        text = unicodedata.normalize("NFD", text).casefold()
    if set(ignored) - {Ignored.SPACE}:
        text = unicodedata.normalize("NFC", text)
    if Ignored.SPACE in ignored:
        text = _SPACE.sub(" ", text).strip(" ")
    return text
