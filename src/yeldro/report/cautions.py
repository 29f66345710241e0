"""Cautions as text."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from rich.console import RenderableType
from rich.text import Text

from yeldro.core.cautions.caution import Caution
from yeldro.report.grids import render_grid


def render_cautions(cautions: Sequence[Caution]) -> Iterator[RenderableType]:
    if cautions:
        yield Text("\nCautions", style="bold yellow")
        yield render_grid(
            ("name", "what was found"),
            [(Text(one.name, style="yellow"), _found(one)) for one in cautions],
        )
    lines = [one.subject.split(" -> ") for one in cautions if one.name == "undeclared-reference"]
    if lines:
        yield Text(
            "\nLines for yeldro.toml, with the rule that you want (delete, detach, stop)",
            style="bold",
        )
        for child, parent in lines:
            yield Text(
                f'  [[references]]\n  from = "{child}"\n  to   = "{parent}"\n  rule = "stop"'
            )


def _found(one: Caution) -> str:
    return f"{one.subject}: {one.message}" if one.name == "undeclared-reference" else one.message
