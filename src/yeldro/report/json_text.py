"""A result as the text of a JSON document."""

from __future__ import annotations

import json
import math
from typing import Any

from yeldro.core.model.visible import is_plain
from yeldro.errors import YeldroError

Document = dict[str, Any]


def write_json(document: Document, *, ascii_only: bool = False) -> str:
    """The same values as they are, but nothing in the text that could steer a terminal: it is
    written as its number."""
    try:
        text = json.dumps(
            document, ensure_ascii=ascii_only, indent=2, default=_value, allow_nan=False
        )
    except ValueError:
        text = json.dumps(
            _without_nan(document),
            ensure_ascii=ascii_only,
            indent=2,
            default=_value,
            allow_nan=False,
        )
    if text.isascii() and text.replace("\n", "").isprintable():
        return text
    return "".join(
        sign if sign == "\n" or is_plain(sign) else json.dumps(sign)[1:-1] for sign in text
    )


def _without_nan(value: Any) -> Any:
    """With texts in the place of what is no number in JSON."""
    match value:
        case dict():
            return {name: _without_nan(one) for name, one in value.items()}
        case list() | tuple():
            return [_without_nan(one) for one in value]
        case float() if not math.isfinite(value):
            return str(value)
        case _:
            return value


def _value(value: Any) -> Any:
    """What JSON has no word for: bytes as hexadecimal text, anything else in its own text form."""
    return bytes(value).hex() if isinstance(value, bytes | memoryview) else str(value)


def make_error(error: YeldroError) -> Document:
    return {"kind": "error", "status": error.status, "message": error.message, "hint": error.hint}
