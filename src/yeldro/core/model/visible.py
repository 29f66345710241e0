"""Texts of others as they may be shown: what would steer a terminal, or hide, becomes a sign that
one can see."""

from __future__ import annotations

import re

# What stands between these has its own direction, and changes that of nothing else (Unicode
# Standard Annex 9, 2.4): where both are there, they steer nothing.
ISOLATE, ISOLATED = "\u2068", "\u2069"
_PAIR = re.compile(f"({ISOLATE}[^{ISOLATE}{ISOLATED}\\n]*{ISOLATED})")
# Line breaks and tabs lay texts out.
_LAYOUT = "\n\t"
# Letters without a form, which Python takes for printable ones.
_BLANK = set("\u034f\u115f\u1160\u17b4\u17b5\u3164\uffa0")
# Those that everybody knows. Others are written by their number.
_SHORT = {"\n": "\\n", "\t": "\\t", "\r": "\\r"}


def make_visible(text: str, keep: str = _LAYOUT) -> str:
    """`text` with every control, mark of direction, sign without width and odd blank as its number,
    but for `keep`, and for what isolates where texts are laid out."""
    if text.isascii() and text.isprintable():
        return text
    if ISOLATE not in text or not keep:
        return _replace(text, keep)
    parts = _PAIR.split(text)
    # Each second one is a pair with what stands in it.
    inside = [f"{ISOLATE}{_replace(part[1:-1], keep)}{ISOLATED}" for part in parts[1::2]]
    around = [_replace(part, keep) for part in parts[::2]]
    return "".join(one for pair in zip(around, [*inside, ""], strict=True) for one in pair)


def _replace(text: str, keep: str) -> str:
    return "".join(sign if sign in keep or is_plain(sign) else _write(sign) for sign in text)


def one_line(text: str) -> str:
    """The same in one line."""
    return make_visible(text, keep="")


def is_plain(sign: str) -> bool:
    return sign.isprintable() and sign not in _BLANK


def _write(sign: str) -> str:
    number = ord(sign)
    if number < 0x100:
        return _SHORT.get(sign) or f"\\x{number:02x}"
    return f"\\u{number:04x}" if number < 0x10000 else f"\\U{number:08x}"
