"""One value of a row as a piece of text that cannot be mistaken for another."""

from __future__ import annotations

import math
import unicodedata
from collections.abc import Sequence
from decimal import Decimal
from typing import Any

from rich.cells import cell_len, set_cell_size
from rich.text import Text

from yeldro.core.model.action import Action
from yeldro.core.model.visible import ISOLATE, ISOLATED, one_line

# A cell that is wider is cut: a table must fit a terminal before it shows all of a text.
WIDEST = 40
_LEFTWARD = ("R", "AL", "AN")
ACTION_STYLES = {
    Action.DELETE: "red",
    Action.DETACH: "magenta",
    Action.MOVE: "bold",
    Action.FILL: "green",
    Action.CLEAR: "red",
    Action.STOP: "bold red",
}


def render_cell(value: Any, widest: int = WIDEST) -> Text:
    """NULL is dim and bare, texts that could be mistaken for it or for nothing are quoted, long
    ones are cut."""
    if value is None:
        return Text("NULL", style="dim italic")
    if isinstance(value, bytes | memoryview):
        return Text(_write_bytes(bytes(value), widest), style="dim")
    if type(value) is float:
        return Text(_write_float(value))
    if not isinstance(value, str):
        return Text(str(value).lower() if isinstance(value, bool) else str(value))
    return Text(_isolate(cut(_write_text(value), widest)))


def _isolate(text: str) -> str:
    """A text that is written from right to left moves nothing beside it (Unicode Standard Annex 9,
    2.4). What isolates it takes no room."""
    if text.isascii() or not any(unicodedata.bidirectional(sign) in _LEFTWARD for sign in text):
        return text
    return f"{ISOLATE}{text}{ISOLATED}"


def render_column(values: Sequence[Any]) -> list[Text]:
    """The values of one column. Where long texts begin alike, they are cut in the middle, so that
    their ends tell them apart."""
    cells = [render_cell(value) for value in values]
    shown = {(cell.plain, value) for cell, value in zip(cells, values, strict=True) if is_cut(cell)}
    if len({plain for plain, _ in shown}) == len(shown):
        return cells
    return [
        Text(_isolate(cut_middle(_write_text(value))))
        if isinstance(value, str) and is_cut(cell)
        else cell
        for cell, value in zip(cells, values, strict=True)
    ]


def is_cut(cell: Text) -> bool:
    return cell.plain.endswith(("…", f"…{ISOLATED}"))


def _write_text(value: str) -> str:
    if len(value) > 4 * WIDEST:  # of a huge text nobody sees more than its ends
        value = value[: 2 * WIDEST] + value[-2 * WIDEST :]
    shown = one_line(value)
    is_plain = value and value.strip() == value and value != "NULL"
    return shown if is_plain else f"'{shown}'"


def _write_float(value: float) -> str:
    """A number for which no text came, so it is SQLite's: in 15 digits, always with a point."""
    text = f"{value:.15g}"
    if not math.isfinite(value):
        return text.capitalize()
    digits, sign, exponent = text.partition("e")
    return text if "." in digits else f"{digits}.0{sign}{exponent}"


def _write_bytes(data: bytes, widest: int) -> str:
    """Where they are cut, how many there are."""
    whole = f"X'{data[:widest].hex().upper()}'"
    if len(data) <= widest and len(whole) <= widest:
        return whole
    length = f"… ({len(data):,} bytes)"
    return whole[: max(4, widest - len(length))] + length


def cut(text: str, widest: int = WIDEST) -> str:
    """At most so many columns of the terminal, in which some letters take two."""
    return text if cell_len(text) <= widest else f"{set_cell_size(text, widest - 1).rstrip()}…"


def cut_middle(text: str, widest: int = WIDEST) -> str:
    """The beginning and the end of a text."""
    if cell_len(text) <= widest:
        return text
    half = (widest - 1) // 2
    end = text[-half:]
    while cell_len(end) > half:
        end = end[1:]
    return f"{set_cell_size(text, half).rstrip()}…{end}"


def is_number(value: Any) -> bool:
    return isinstance(value, int | float | Decimal) and not isinstance(value, bool)
