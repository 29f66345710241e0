"""What a text of SQL may call, found without knowing which server reads it: rather a name too many
than one too few."""

from __future__ import annotations

import re

from msgspec import Struct

# A name in the quotes of any engine, or bare. What the parser cannot read is looked through for
# calls by this.
_NAME = r"""(?:"((?:[^"]|"")+)"|`([^`]+)`|\[([^\]]+)\]|([^\W\d][\w$]*))"""
_CALL, _PART, _WORD = re.compile(rf"{_NAME}\s*\("), re.compile(rf"\.\s*{_NAME}"), re.compile(_NAME)
# Taken out first: a call in a text or in a comment is none.
_TEXT, _COMMENT = re.compile(r"'(?:[^']|'')*'"), re.compile(r"--[^\n]*|/\*.*?\*/", re.DOTALL)
# A name may be written in other letters then.
_CODED = re.compile(r"""\bu&["']""", re.IGNORECASE)


class Calls(Struct, frozen=True):
    """In lower case, the names that stand before a bracket, those behind a dot, and all words.

    `is_coded` says that there may be others, which are written with the numbers of their letters.
    """

    names: frozenset[str] = frozenset()
    parts: frozenset[str] = frozenset()
    words: frozenset[str] = frozenset()
    is_coded: bool = False


def find_calls(text: str) -> Calls:
    """What may be called. Texts in quotes are passed over only where nobody can disagree about
    where they end."""
    plain = text if set("\\$") & set(text) else _TEXT.sub("''", text)
    forms = {plain, _COMMENT.sub(" ", plain)}
    names, parts, words = (
        frozenset(_read(found) for form in forms for found in pattern.finditer(form))
        for pattern in (_CALL, _PART, _WORD)
    )
    return Calls(names, parts, words, bool(_CODED.search(text)))


def _read(found: re.Match[str]) -> str:
    quoted, *others = found.groups()
    return next(name for name in ((quoted or "").replace('""', '"'), *others) if name).lower()
