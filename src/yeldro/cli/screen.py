"""The one object that writes: results to standard output, everything else to standard error."""

from __future__ import annotations

import os
import sys
from collections.abc import Iterable

from rich.console import Console, RenderableType
from rich.text import Text

from yeldro.errors import OutputClosed, YeldroError
from yeldro.report.documents import Document, make_error, write_json

# Where no terminal tells a width, nothing is cut or wrapped.
_UNBOUNDED = 4000
_LINES = 500


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

    def show(self, parts: Iterable[RenderableType]) -> None:
        """Write a result for people."""
        for part in parts:
            with self._out.capture() as captured:
                self._out.print(part, soft_wrap=isinstance(part, Text | str), markup=False)
            lines = captured.get().splitlines()
            self._write("".join(f"{line.rstrip()}\n" for line in lines))

    def note(self, text: str) -> None:
        """Write something that is no result."""
        self._error.print(Text(text))

    def write_document(self, document: Document) -> None:
        plain = (getattr(sys.stdout, "encoding", None) or "utf-8").lower().startswith("utf")
        self._write(write_json(document, ascii_only=not plain) + "\n")

    def write_text(self, text: str) -> None:
        """Write a text as it is."""
        self._write(text)

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
        try:
            sys.stdout.write(text)
            sys.stdout.flush()
        except BrokenPipeError:
            os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
            raise OutputClosed from None

    def tell_error(self, error: YeldroError) -> None:
        if self.format == "json":
            self.write_document(make_error(error))
            return
        self.tell(error.message, error.hint)

    def tell(self, message: str, hint: str) -> None:
        self._error.print(Text.assemble(("Error: ", "bold red"), message))
        if hint:
            self._error.print(Text("\n".join(f"  {line}" for line in hint.splitlines())), soft_wrap=True)


def _console(stream: object) -> Console:
    is_terminal = stream.isatty()  # type: ignore[attr-defined]  # standard streams have it
    width = None if is_terminal else _UNBOUNDED
    return Console(file=stream, width=width, highlight=False, emoji=False)  # type: ignore[arg-type]  # as above
