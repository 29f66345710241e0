"""How an option is named to a person: as it is typed, or as it is written in a cleanup file."""

from __future__ import annotations

from enum import Enum
from typing import Any

from yeldro.core.cleanup.keys import write_key


class Voice(Enum):
    COMMAND_LINE = "command line"
    FILE = "file"

    def name_option(self, name: str, value: Any = None) -> str:
        """`--max-rows 1,000` or `max_rows = 1000`. `value` may be (TABLE, RULE). Options that no
        step of a file has stay as they are typed."""
        written = write_key(name, value) if self is Voice.FILE else ""
        return written or f"--{name}{_type(value)}"


def _type(value: Any) -> str:
    match value:
        case None:
            return ""
        case (table, rule):
            return f" {table}={rule}"
        case int():
            return f" {value:,}"
        case float():
            return f" {value:g}"
    return f' "{value}"' if " " in str(value) else f" {value}"
