"""What `yeldro delete` does, and the person it asks."""

from __future__ import annotations

import signal
import sys
from typing import Any

import click

from yeldro import workflow
from yeldro.cli.place import find_database
from yeldro.cli.request import opened, read_request
from yeldro.cli.screen import Screen
from yeldro.core.database import Mode
from yeldro.core.outcome import RunResult
from yeldro.core.preview import Preview
from yeldro.core.reach import Action
from yeldro.core.tally import Tally
from yeldro.errors import UsageError
from yeldro.report.documents import make_run
from yeldro.report.grids import count
from yeldro.report.preview import render_preview
from yeldro.report.tally import render_ending, render_tally

NO_COPY = "No copy of these rows is kept: once committed, they are gone for good."


def run_deletion(options: dict[str, Any]) -> int:
    """Preview, ask, delete, tell. Returns the exit status."""
    screen = Screen(options["format"])
    if options["ask_last"] and (options["yes"] or options["rehearse"]):
        raise UsageError("--ask-last excludes --yes and --rehearse.")
    asks = not (options["yes"] or options["rehearse"])
    if asks and not sys.stdin.isatty():
        raise UsageError("There is no terminal to ask on.", "Give --yes to delete without a question, or --rehearse.")
    manner = workflow.Manner(options["rehearse"], asks and not options["ask_last"], options["ask_last"])
    place = find_database(options["db"])
    protected = place.name if place.protected and not options["rehearse"] else ""
    if protected and not asks and options["confirm"] != protected:
        raise UsageError(
            f"The database {protected} is protected: --yes alone is not enough.", f"Say --confirm {protected} too."
        )
    person = _Person(screen, options["rehearse"], "" if options["confirm"] == protected else protected)
    with opened(place, Mode.WRITE, options["wait"]) as database:
        result = workflow.delete(database, read_request(database, options), manner, person)
    _tell(screen, result, person.asked_last)
    return result.status


def _tell(screen: Screen, result: RunResult, asked_last: bool) -> None:
    if screen.format == "json":
        screen.write_document(make_run("delete", result))
        return
    if result.tally and not asked_last:
        screen.show(render_tally(result.tally))
    screen.show(render_ending(result))
    if result.reason:
        screen.tell(result.reason, result.hint)


class _Person:
    """Answers from the terminal.

    `keeps` says whether the rows stay in any case, as in a rehearsal; `protected` is the name of a database that must
    be typed before a commit, "" where none must.
    """

    def __init__(self, screen: Screen, keeps: bool, protected: str) -> None:
        self.screen = screen
        self.keeps = keeps
        self.protected = protected
        self.asked_last = False

    def show(self, preview: Preview) -> None:
        if self.screen.format == "text":
            self.screen.show(render_preview(preview, self.screen.width, ""))
            if preview.reach.matched and not preview.refusals and not self.keeps:
                self.screen.note(f"\n{NO_COPY}")

    def allow(self, preview: Preview) -> bool:
        return self._ask(f"{_describe(preview)}?")

    def allow_commit(self, tally: Tally) -> bool:
        self.asked_last = True
        self.screen.show(render_tally(tally))
        return self._ask("Everything is as expected. Commit?")

    def _ask(self, question: str) -> bool:
        try:
            if not self.protected:
                return click.confirm(question, err=True)
            typed = click.prompt(f"{question} Type {self.protected} to go on", default="", show_default=False, err=True)
            return bool(typed == self.protected)
        except click.Abort:
            raise KeyboardInterrupt from None

    def committing(self) -> None:
        signal.signal(signal.SIGINT, signal.SIG_IGN)


def _describe(preview: Preview) -> str:
    label = preview.selection.table.label
    going = [part for part in preview.reach.parts if part.action is Action.DELETE and part.table.label != label]
    own = sum(p.rows for p in preview.reach.parts if p.action is Action.DELETE and p.table.label == label)
    detached = sum(part.rows for part in preview.reach.parts if part.action is Action.DETACH)
    text = f"Delete {count(own, 'row')} of {label}"
    if going:
        text += f" and {count(sum(part.rows for part in going), 'row')} of {count(len(going), 'other table')}"
    return text + (f", and detach {count(detached, 'row')}" if detached else "")
