"""Cautions as text."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from rich.console import RenderableType
from rich.text import Text

from yeldro.core.cautions.caution import Caution
from yeldro.report.grids import render_grid
from yeldro.words.tell import tell
from yeldro.words.voice import Voice


def render_cautions(
    cautions: Sequence[Caution], voice: Voice = Voice.COMMAND_LINE
) -> Iterator[RenderableType]:
    if cautions:
        yield Text("\nCautions", style="bold yellow")
        yield render_grid(
            ("name", "what was found"),
            [(Text(caution.name, style="yellow"), _found(caution, voice)) for caution in cautions],
        )
    lines = [
        caution.subject.split(" -> ")
        for caution in cautions
        if caution.name == "undeclared-reference"
    ]
    if lines:
        yield Text(
            "\nLines for yeldro.toml, with the rule that you want (delete, detach, stop)",
            style="bold",
        )
        for child, parent in lines:
            yield Text(
                f'  [[references]]\n  from = "{child}"\n  to   = "{parent}"\n  rule = "stop"'
            )


def _found(one: Caution, voice: Voice) -> str:
    sentence = tell(one.found, voice)
    return f"{one.subject}: {sentence}" if one.name == "undeclared-reference" else sentence
