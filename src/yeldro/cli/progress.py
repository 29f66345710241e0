"""A progress bar on the terminal's error stream, for work that takes longer than two seconds."""

from __future__ import annotations

import sys
import time

from rich.progress import (
    BarColumn,
    MofNCompleteColumn,
    Progress,
    TaskID,
    TextColumn,
    TimeRemainingColumn,
)

from yeldro.cli.waiting import LINE, PATIENCE, make_console


class Bar:
    """Rows, rate and time left. Without a terminal it stays silent."""

    def __init__(self, done: str, what: str = "rows") -> None:
        self.words = f"{what} {done}"
        self._began = 0.0
        self._progress: Progress | None = None
        self._task = TaskID(0)

    def move(self, rows: int, total: int, now: str = "") -> None:
        """`now` stands in the place of the rate: what is worked on."""
        self._began = self._began or time.monotonic()
        passed = time.monotonic() - self._began
        if self._progress is None and sys.stderr.isatty() and passed > PATIENCE and rows < total:
            columns = (
                BarColumn(),
                MofNCompleteColumn(),
                TextColumn("{task.fields[rate]}"),
                TimeRemainingColumn(),
            )
            LINE.clear()
            words = TextColumn(self.words)
            self._progress = Progress(*columns, words, console=make_console(), transient=True)
            self._task = self._progress.add_task("", total=total, rate="")
            self._progress.start()
        if self._progress:
            self._progress.update(self._task, completed=rows, rate=now or f"{rows / passed:,.0f}/s")
            if rows >= total:
                self.stop()

    def stop(self) -> None:
        if self._progress:
            self._progress.stop()
            self._progress = None
