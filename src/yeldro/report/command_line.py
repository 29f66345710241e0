"""A command to be copied: over several lines where it is wider than the terminal, never broken
within a word."""

from __future__ import annotations

import re

from msgspec import Struct
from rich.console import Console, ConsoleOptions, RenderResult
from rich.text import Text

from yeldro.core.model.visible import make_visible

# A word as a shell takes it: quoted parts belong to it.
_WORD = re.compile(r"""(?:[^\s'"\\]|'[^']*'|"(?:\\.|[^"\\])*"|\\.)+""", re.DOTALL)
_END = " \\"


class CommandLine(Struct, frozen=True):
    """`indent` blanks before the first line, two more before the others."""

    line: str
    style: str = "bold"
    indent: int = 2

    def __rich_console__(self, console: Console, options: ConsoleOptions) -> RenderResult:
        folded = fold_command(make_visible(self.line), options.max_width, self.indent)
        yield Text(folded, style=self.style, no_wrap=True, overflow="ignore")


def fold_command(line: str, width: int, indent: int) -> str:
    """The same command, with a line break that a shell ignores where a line would be too wide."""
    parts: list[str] = []
    for word in _WORD.findall(line):
        # An option stays together with its value.
        if parts and parts[-1].startswith("-") and " " not in parts[-1] and word[0] != "-":
            parts[-1] += f" {word}"
        else:
            parts.append(word)
    lines = [" " * indent + parts[0]] if parts else []
    for part in parts[1:]:
        if len(lines[-1]) + 1 + len(part) + len(_END) > width:
            lines[-1] += _END
            lines.append(" " * (indent + 2) + part)
        else:
            lines[-1] += f" {part}"
    return "\n".join(lines)
