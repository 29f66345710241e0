"""What came and went since a cleanup was sealed."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from msgspec.structs import asdict
from rich.console import RenderableType
from rich.text import Text

from yeldro.core.run.preview import Preview
from yeldro.core.run.seal import DEPENDING, Change
from yeldro.report.grids import render_grid


def make_changes(preview: Preview) -> dict[str, Any]:
    """The keys `seal` and, where it is broken, `changes` of a preview document."""
    document: dict[str, Any] = {"seal": asdict(preview.seal) if preview.seal else None}
    if found := preview.difference:
        document["changes"] = {
            "came": list(map(asdict, found.came)),
            "went": list(map(asdict, found.went)),
        }
    return document


def render_changes(preview: Preview) -> Iterator[RenderableType]:
    """By what would happen to the rows, with the first keys; nothing where the seal holds."""
    found = preview.difference
    if not found or not found.is_known:
        return
    yield Text("\nSince it was sealed", style="bold")
    changes = [("came", one) for one in found.came] + [("went", one) for one in found.went]
    rows = [[word, _describe(one.action), one.rows, _list(one)] for word, one in changes]
    yield render_grid(("", "what", "rows", "keys"), rows, right=("rows",))


def _describe(action: str) -> str:
    return action.replace(DEPENDING, ", depending on them")


def _list(change: Change) -> str:
    more = change.rows - len(change.keys)
    return "; ".join(change.keys) + (f" and {more:,} more" if more else "")
