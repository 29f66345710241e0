"""How an option is named to a person: as it is typed, or as it is written in a cleanup file."""

from __future__ import annotations

import json
from enum import Enum
from typing import Any

from yeldro.core.cleanup.keys import DEDUPE, DELETE
from yeldro.core.cleanup.kinds import FLAG


class Voice(Enum):
    COMMAND_LINE = "command line"
    FILE = "file"

    def name_option(self, name: str, value: Any = None) -> str:
        """`--max-rows 1,000` or `max_rows = 1000`. `value` may be (TABLE, RULE). Options that no
        step of a file has stay as they are typed."""
        key = name.replace("-", "_")
        kind = (DELETE | DEDUPE).get(key)
        if self is Voice.COMMAND_LINE or kind is None:
            return f"--{name}{_type(value)}"
        if value is None:
            return f"{key} = true" if kind is FLAG or key == "fill" else key
        return f"{key} = {_write(value)}"


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


def _write(value: Any) -> str:
    match value:
        case (table, rule):
            shown = table if table.isidentifier() else json.dumps(table, ensure_ascii=False)
            return f'{{ {shown} = "{rule}" }}'
        case int() | float():
            return f"{value:g}" if isinstance(value, float) else str(value)
    return json.dumps(value, ensure_ascii=False)
