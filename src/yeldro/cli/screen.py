"""The one object that writes: results to standard output, everything else to standard error."""

from __future__ import annotations

import os
import sys
from collections.abc import Iterable
from typing import Any

import click
from rich.console import Console, ConsoleOptions, RenderableType
from rich.segment import Segment
from rich.text import Text

from yeldro.cli.waiting import LINE
from yeldro.core.model.address import hide_passwords
from yeldro.core.model.visible import make_visible, one_line
from yeldro.errors import OutputClosed, YeldroError
from yeldro.report.json_text import Document, make_error, write_json

# Where no terminal tells a width, nothing is cut or wrapped.
_UNBOUNDED = 4000
# Lines of CSV that are written together: one at a time is slow, all at once takes memory.
_LINES = 500


class _VisibleConsole(Console):
    """The one way to a terminal, or to a pipe that ends in one: what others wrote cannot steer
    it.
    """

    def render(
        self, renderable: RenderableType, options: ConsoleOptions | None = None
    ) -> Iterable[Segment]:
        for segment in super().render(renderable, options):
            yield segment if segment.control else Segment(make_visible(segment.text), segment.style)


def confirm(question: str) -> bool:
    """Ask for a yes or no. An interrupt goes through as one."""
    LINE.clear()
    try:
        return click.confirm(one_line(question), err=True)
    except click.Abort:
        raise KeyboardInterrupt from None


def prompt(question: str, **options: Any) -> str:
    """Ask for a line of text."""
    LINE.clear()
    try:
        return str(click.prompt(one_line(question), err=True, **options))
    except click.Abort:
        raise KeyboardInterrupt from None


class Screen:
    """`format` is text, json or csv."""

    def __init__(self, format: str) -> None:
        self.format = format
        for stream in (sys.stdout, sys.stderr):
            if hasattr(stream, "reconfigure"):  # what it cannot encode must not end a command
                stream.reconfigure(errors="backslashreplace")
        self._waiting: list[str] = []
        self._out = _console(sys.stdout)
        self._error = _console(sys.stderr)

    @property
    def width(self) -> int:
        return self._out.width

    @property
    def height(self) -> int | None:
        """The lines of the terminal, None where there is none."""
        return self._out.height if self._out.is_terminal else None

    def show(self, parts: Iterable[RenderableType]) -> None:
        """Write a result for people."""
        for part in parts:
            with self._out.capture() as captured:
                self._out.print(part, markup=False, crop=False)
            lines = captured.get().removesuffix("\n").split("\n")
            self._write("".join(f"{line.rstrip()}\n" for line in lines))

    def note(self, text: str) -> None:
        """Write something that is no result."""
        LINE.clear()
        self._error.print(Text(text))

    def write_document(self, document: Document) -> None:
        plain = (getattr(sys.stdout, "encoding", None) or "utf-8").lower().startswith("utf")
        self._write(write_json(document, ascii_only=not plain) + "\n")

    def write_text(self, text: str) -> None:
        """Write a text as it is, but where a person reads it at once."""
        self._write(make_visible(text) if sys.stdout.isatty() else text)

    def write_line(self, line: str) -> None:
        self._waiting.append(line + "\r\n")
        if len(self._waiting) == _LINES:
            self.end_lines()

    def end_lines(self) -> None:
        """Write the lines that wait to be written together."""
        self._write("".join(self._waiting))
        self._waiting.clear()

    def _write(self, text: str) -> None:
        """OutputClosed where nobody reads it; whatever is written after that goes nowhere."""
        LINE.clear()
        try:
            sys.stdout.write(text)
            sys.stdout.flush()
        except BrokenPipeError:
            os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
            raise OutputClosed from None

    def tell_error(self, error: YeldroError) -> None:
        if self.format == "json":
            error.message, error.hint = hide_passwords(error.message), hide_passwords(error.hint)
            self.write_document(make_error(error))
            return
        self.tell(error.message, error.hint)

    def tell(self, message: str, hint: str) -> None:
        LINE.clear()
        message, hint = hide_passwords(message), hide_passwords(hint)
        self._error.print(Text.assemble(("Error: ", "bold red"), message))
        if hint:
            self._error.print(
                Text("\n".join(f"  {line}" for line in hint.splitlines())), soft_wrap=True
            )


def _console(stream: object) -> Console:
    is_terminal = stream.isatty()  # type: ignore[attr-defined]  # standard streams have it
    width = None if is_terminal else _UNBOUNDED
    return _VisibleConsole(file=stream, width=width, highlight=False, emoji=False)  # type: ignore[arg-type]  # as above
