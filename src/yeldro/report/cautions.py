"""Cautions as text."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from rich.console import RenderableType
from rich.text import Text

from yeldro.core.cautions import Caution
from yeldro.report.grids import render_grid


def render_cautions(cautions: Sequence[Caution]) -> Iterator[RenderableType]:
    if cautions:
        yield Text("\nCautions", style="bold yellow")
        yield render_grid(
            ("name", "what was found"), [(Text(one.name, style="yellow"), one.message) for one in cautions]
        )
