"""The person at the terminal: what is shown to them, and what they are asked."""

from __future__ import annotations

import signal
from collections import Counter
from collections.abc import Sequence

from rich.text import Text

from yeldro.cli.progress import Bar
from yeldro.cli.screen import Screen, confirm, prompt
from yeldro.core.model.action import Action
from yeldro.core.model.plural import count
from yeldro.core.model.visible import one_line
from yeldro.core.restore.plan import RestorePlan
from yeldro.core.run.batching import Progress
from yeldro.core.run.forecast import Forecast
from yeldro.core.run.preview import Preview
from yeldro.core.run.tally import Tally
from yeldro.report.duplicates import render_merging
from yeldro.report.forecast import render_forecast
from yeldro.report.preview import render_preview
from yeldro.report.restore import render_plan
from yeldro.report.tally import render_tally


def show_step(screen: Screen, found: Preview, number: int) -> None:
    """A preview, under the name of its step where it has a number."""
    if number:
        screen.show([Text(f"\nStep {number}, {found.step}", style="bold")])
    screen.show(render_merging(found) if found.duplicates else render_preview(found, None))


class Person:
    """Answers from the terminal. `title` is the database, `done` is what a progress bar says of
    rows.

    `how` follows what would happen in a question. `warning` is what must be known about the
    archive; `protected` is the name of a database that must be typed before a commit, "" where none
    must.
    """

    def __init__(
        self, screen: Screen, title: str, warning: str, protected: str, done: str = "archived"
    ) -> None:
        self.screen = screen
        self.title = title
        self.warning = warning
        self.protected = protected
        self.asked_last = False
        self.shown = 0
        self.several = False
        self.quiet = False
        self.how = ""
        self._in_batches = False
        self._commits = False
        self._interrupts = 0
        self.bar = Bar(done)

    def show(self, preview: Preview) -> None:
        self.shown += 1
        if self.screen.format == "text" and not self.quiet:
            show_step(self.screen, preview, self.shown if self.several else 0)
            if self.warning and preview.reach.touched and not preview.refusals:
                self.screen.note(f"\n{self.warning}")
                self.warning = ""

    def allow(self, previews: Sequence[Preview]) -> bool:
        wanted = [found for found in previews if found.reach.touched]
        if len(previews) == 1:
            return self._ask(f"{_describe(wanted[0])}{self.how}, in {self.title}?")
        for found in previews:
            text = _describe(found) if found in wanted else "nothing, as the data is now"
            self.screen.note(
                f"{'' if found is not previews[0] else chr(10)}Step {found.step}: {text}."
            )
        return self._ask(
            "Each step sees what those before it did. Run them in one transaction, in "
            f"{self.title}?"
        )

    def allow_more(self, preview: Preview, rows: int) -> bool:
        what = (
            f"{count(rows, 'row')} of it {'was' if rows == 1 else 'were'} not shown, and came by "
            "earlier steps"
        )
        return self._ask(f"Step {preview.step}: {what}. {_describe(preview)}, in {self.title}?")

    def show_forecast(self, found: Forecast) -> None:
        if self.screen.format == "text":
            self.screen.show(render_forecast(found))

    def show_plan(self, plan: RestorePlan) -> None:
        if self.screen.format == "text":
            self.screen.show(render_plan(plan))

    def allow_restore(self, plan: RestorePlan) -> bool:
        return self._ask(f"Restore {count(plan.rows, 'row')} into {self.title}{self.how}?")

    def copying(self, rows: int, total: int) -> None:
        self.bar.move(rows, total)

    def end(self) -> None:
        self.bar.stop()

    def allow_commit(self, tally: Tally) -> bool:
        self.asked_last = True
        self.bar.stop()
        self.screen.show(render_tally(tally))
        return self._ask(f"Everything is as expected. Commit in {self.title}?")

    def _ask(self, question: str) -> bool:
        if not self.protected:
            return confirm(question)
        return (
            prompt(f"{question} Type {self.protected} to go on", default="", show_default=False)
            == self.protected
        )

    def begin_batches(self) -> None:
        self.bar = Bar("of the chosen ones done")
        for name in ("SIGINT", "SIGTERM", "SIGHUP"):
            if hasattr(signal, name):
                signal.signal(getattr(signal, name), self._interrupt)
        self._in_batches = True

    def _interrupt(self, *_: object) -> None:
        self._interrupts += 1
        if self._interrupts > 1 and not self._commits:
            raise KeyboardInterrupt
        self.screen.note("This batch is finished first; another interrupt rolls it back.")

    def batch_done(self, progress: Progress) -> None:
        self._commits = False
        self.bar.move(progress.done, progress.total, f"batch {progress.batches:,}")

    def waiting(self, name: str, seconds: float, progress: Progress) -> None:
        text = f"waiting: {one_line(name)} is {seconds:.1f} s behind"
        self.bar.move(progress.done, progress.total, text)

    def wants_to_stop(self) -> bool:
        return self._interrupts > 0

    def committing(self) -> None:
        if self._in_batches:
            self._commits = True
            return
        for name in ("SIGINT", "SIGTERM", "SIGHUP"):
            if hasattr(signal, name):
                signal.signal(getattr(signal, name), signal.SIG_IGN)


def _describe(preview: Preview) -> str:
    """What would happen, as a question begins."""
    label = preview.selection.table.label
    deleted = _find_rows(preview, Action.DELETE)
    noun = "surplus row" if preview.duplicates else "row"
    text = f"Delete {count(deleted.pop(label, 0), noun)} of {label}"
    for change in preview.reach.changes:
        if change.action is Action.CLEAR:
            text = f"Clear {', '.join(change.columns)} in {count(change.rows, 'row')} of {label}"
    for verb, action in (("move", Action.MOVE), ("fill", Action.FILL)):
        changes = [change for change in preview.reach.changes if change.action is action]
        if rows := sum(change.rows - change.detached for change in changes):
            text += f", {verb} {count(rows, 'row')}"
    if deleted:
        text += f" and {count(sum(deleted.values()), 'row')} of "
        text += count(len(deleted), "other table")
    detached = sum(_find_rows(preview, Action.DETACH).values())
    return text + (f", and detach {count(detached, 'row')}" if detached else "")


def _find_rows(preview: Preview, action: Action) -> Counter[str]:
    """How many rows an action touches, by table."""
    rows: Counter[str] = Counter()
    for part in preview.reach.parts:
        if part.action is action:
            rows[part.table.label] += part.rows
    return rows
