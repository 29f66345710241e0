"""Values as literals: one function for each engine, whatever the client does with the script that
they stand in.

Clients read a script line by line, in a character set of their own. They change line ends, end at a
NUL, and may take bytes for a quote. So nothing but printable characters stands in a literal as it
is.
"""

from __future__ import annotations

import datetime
import math
from collections.abc import Iterator
from decimal import Decimal
from itertools import groupby
from typing import Any

# Of more pieces than these a text is written as its bytes.
_PIECES = 12


def _quoted(text: str) -> str:
    return "'" + text.replace("'", "''") + "'"


def write_for_sqlite(value: Any, encoding: str = "UTF-8") -> str:
    """SQLite has no escapes: what cannot stand in quotes is made by char(), or of the bytes,
    without an affinity."""
    match value:
        case None:
            return "NULL"
        case bool():
            return str(int(value))
        case int():
            return str(value)
        case float() if math.isinf(value):
            return "9e999" if value > 0 else "-9e999"
        case float():
            return "NULL" if math.isnan(value) else repr(value)
        case bytes():
            return f"X'{value.hex()}'"
    text = str(value)
    if text.isprintable():
        return _quoted(text)
    pieces = [(plain, "".join(signs)) for plain, signs in groupby(text, str.isprintable)]
    if len(pieces) > _PIECES:
        return f"(+CAST(X'{_encode(text, encoding).hex()}' AS TEXT))"
    return (
        "(" + " || ".join(_quoted(part) if plain else _char(part) for plain, part in pieces) + ")"
    )


def _encode(text: str, encoding: str) -> bytes:
    return text.encode({"UTF-16le": "utf-16-le", "UTF-16be": "utf-16-be"}.get(encoding, "utf-8"))


def _char(text: str) -> str:
    """Only so many arguments at once."""
    parts = [text[at : at + 100] for at in range(0, len(text), 100)]
    return " || ".join(f"char({', '.join(str(ord(sign)) for sign in part)})" for part in parts)


def write_for_postgresql(value: Any) -> str:
    """https://www.postgresql.org/docs/current/sql-syntax-lexical.html#SQL-SYNTAX-STRINGS-ESCAPE"""
    match value:
        case None:
            return "NULL"
        case bool():
            return str(value).lower()
        case int():
            return str(value)
        case float() | Decimal():
            return str(value) if math.isfinite(value) else f"'{value}'"
        case bytes():
            return f"'\\x{value.hex()}'"
        case datetime.datetime():
            return f"'{value.isoformat(' ')}'::timestamp{'tz' if value.tzinfo else ''}"
        case datetime.date():
            return f"'{value.isoformat()}'::date"
    text = str(value)
    return _quoted(text) if text.isprintable() else "E'" + "".join(_escape(text)) + "'"


def _escape(text: str) -> Iterator[str]:
    for sign in text:
        if sign.isprintable():
            yield {"'": "''", "\\": "\\\\"}.get(sign, sign)
        else:
            yield f"\\U{ord(sign):08x}" if ord(sign) > 0xFFFF else f"\\u{ord(sign):04x}"


def write_for_mariadb(value: Any) -> str:
    """A text that is not plain ASCII, or holds a backslash, is written as its bytes: clients read
    those in theirs."""
    match value:
        case None:
            return "NULL"
        case bool():
            return str(int(value))
        case int() | float() | Decimal():
            return str(value)
        case bytes():
            return f"X'{value.hex()}'"
        case datetime.datetime():
            return f"'{value.isoformat(' ')}'"
        case datetime.date():
            return f"'{value.isoformat()}'"
    text = str(value)
    if text.isascii() and text.isprintable() and "\\" not in text:
        return _quoted(text)
    return f"_utf8mb4 X'{text.encode().hex()}'"
