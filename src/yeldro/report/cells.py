"""One value of a row as a piece of text that cannot be mistaken for another."""

from __future__ import annotations

from decimal import Decimal
from typing import Any

from rich.text import Text

from yeldro.core.model.action import Action
from yeldro.core.model.visible import one_line

# A cell that is wider is cut: a table must fit a terminal before it shows all of a text.
WIDEST = 40
ACTION_STYLES = {
    Action.DELETE: "red",
    Action.DETACH: "yellow",
    Action.MOVE: "cyan",
    Action.FILL: "green",
    Action.STOP: "bold red",
}


def render_cell(value: Any, widest: int = WIDEST) -> Text:
    """NULL is dim and bare, texts that could be mistaken for it or for nothing are quoted, long
    ones are cut."""
    if value is None:
        return Text("NULL", style="dim italic")
    if isinstance(value, bytes | memoryview):
        data = bytes(value)
        return Text(cut(f"X'{data[:widest].hex().upper()}'", widest), style="dim")
    if not isinstance(value, str):
        return Text(str(value).lower() if isinstance(value, bool) else str(value))
    shown = one_line(value[: widest * 2])
    if value == "" or value.strip() != value or value == "NULL":
        shown = f"'{shown}'"
    return Text(cut(shown, widest))


def cut(text: str, widest: int = WIDEST) -> str:
    return text if len(text) <= widest else text[: widest - 1] + "…"


def is_number(value: Any) -> bool:
    return isinstance(value, int | float | Decimal) and not isinstance(value, bool)
