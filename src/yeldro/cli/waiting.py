"""The line at the bottom of a terminal that says what the database is busy with, once it takes
longer than two seconds."""

from __future__ import annotations

import sys
import threading
from collections.abc import Mapping
from typing import TYPE_CHECKING

from yeldro.core.database.phase import Phase
from yeldro.core.model.plural import count
from yeldro.core.model.visible import one_line

if TYPE_CHECKING:
    from rich.console import Console

# Seconds. What takes less needs no line, which would only flicker.
PATIENCE = 2.0
_WORDS: Mapping[Phase, str] = {
    Phase.MATCHING: "matching rows of {}",
    Phase.FOLLOWING: "following references to {}",
    Phase.LOOKING: "looking at {}",
    Phase.GROUPING: "finding groups in {}",
    Phase.DELETING: "deleting {}",
    Phase.CHANGING: "changing {}",
    Phase.CHECKING: "checking {}",
    Phase.COMMITTING: "committing",
    Phase.WAITING: "committed here; waiting for the synchronous standby {}. Ctrl-C ends the wait, "
    "and not the commit",
    Phase.COMPARING: "comparing {}",
    Phase.RESTORING: "restoring {}",
}


def describe_phase(phase: Phase, label: str, rows: int | None) -> str:
    what = one_line(label) if rows is None else f"{count(rows, 'row')} of {one_line(label)}"
    return _WORDS[phase].format(what)


def make_console() -> Console:
    """The terminal, in its own colours: ours could not be read on each."""
    from rich.console import Console
    from rich.theme import Theme

    parts = ("elapsed", "remaining", "spinner", "download")
    return Console(file=sys.stderr, theme=Theme({f"progress.{one}": "default" for one in parts}))


class WaitingLine:
    """Says the latest phase, and for how long it has lasted. A thread of its own shows it, for this
    one waits for the database."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._timer: threading.Timer | None = None
        self._shown: object | None = None
        self._text = ""

    def __call__(self, phase: Phase, label: str = "", rows: int | None = None) -> None:
        if not sys.stderr.isatty():
            return
        with self._lock:
            self._hide()
            self._text = describe_phase(phase, label, rows)
            self._timer = threading.Timer(PATIENCE, self._show)
            self._timer.daemon = True
            self._timer.start()

    def clear(self) -> None:
        """Take the line away, before anything else is written."""
        with self._lock:
            self._hide()

    def _hide(self) -> None:
        if self._timer:
            self._timer.cancel()
            self._timer = None
        if self._shown:
            self._shown.stop()  # type: ignore[attr-defined]  # a Progress, imported where it is needed
            self._shown = None

    def _show(self) -> None:
        from rich.progress import Progress, SpinnerColumn, TextColumn, TimeElapsedColumn

        with self._lock:
            if self._timer is None or self._shown:
                return
            columns = (SpinnerColumn(), TextColumn("{task.description}"), TimeElapsedColumn())
            shown = Progress(*columns, console=make_console(), transient=True)
            shown.add_task(self._text, total=None)
            shown.tasks[0].start_time = shown.get_time() - PATIENCE
            shown.start()
            self._shown = shown


# There is one terminal, and one line at its bottom.
LINE = WaitingLine()
