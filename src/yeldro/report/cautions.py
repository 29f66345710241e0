"""Cautions as text."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from rich.console import RenderableType
from rich.text import Text

from yeldro.core.cautions.caution import Caution
from yeldro.report.grids import render_grid
from yeldro.words.tell import tell
from yeldro.words.voice import Voice

# So many are named one by one where there are many of a kind.
_SUBJECTS = 2
# What is said of these does not name what it is about.
_NAMED = ("undeclared-reference", "unenforced-reference")


def render_cautions(
    cautions: Sequence[Caution], voice: Voice = Voice.COMMAND_LINE
) -> Iterator[RenderableType]:
    if cautions:
        yield Text("\nCautions", style="bold")
        yield render_grid(
            ("name", "what was found"),
            [(Text(caution.name, style="bold"), _found(caution, voice)) for caution in cautions],
        )
    yield from _render_lines(cautions)


def render_kinds(cautions: Sequence[Caution]) -> Iterator[RenderableType]:
    """One line for each kind of caution, with how many there are and the first of what they are
    about."""
    kinds: dict[str, list[Caution]] = {}
    for one in cautions:
        kinds.setdefault(one.name, []).append(one)
    if kinds:
        yield Text("\nCautions", style="bold")
        rows = [
            (Text(name, style="bold"), len(found), _name_subjects(found))
            for name, found in kinds.items()
        ]
        yield render_grid(("name", "how many", "about"), rows, right=("how many",))
        more = ", with lines for yeldro.toml" if "undeclared-reference" in kinds else ""
        yield Text(f"  (--all tells what each of them says{more})", style="dim")


def _name_subjects(cautions: Sequence[Caution]) -> str:
    first = ", ".join(one.subject for one in cautions[:_SUBJECTS])
    more = len(cautions) - _SUBJECTS
    return f"{first} and {more:,} more" if more > 0 else first


def _render_lines(cautions: Sequence[Caution]) -> Iterator[RenderableType]:
    """What would declare the likely references."""
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
    return f"{one.subject}: {sentence}" if one.name in _NAMED else sentence
