"""Rows as CSV (RFC 4180). NULL is an empty field, an empty text a quoted one, so that the two stay
apart."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any


def render_line(values: Sequence[Any]) -> str:
    return ",".join(map(_field, values))


def _field(value: Any) -> str:
    if value is None:
        return ""
    if isinstance(value, bytes | memoryview):
        return bytes(value).hex()
    text = str(value).lower() if isinstance(value, bool) else str(value)
    quoted = text == "" or any(mark in text for mark in ',"\r\n') or text.strip() != text
    return '"' + text.replace('"', '""') + '"' if quoted else text
