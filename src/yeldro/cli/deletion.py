"""What `yeldro delete` does, and the person it asks."""

from __future__ import annotations

import os
import signal
import sys
from collections.abc import Callable, Sequence
from typing import Any

from rich.text import Text

from yeldro import running
from yeldro.cli.bar import Bar
from yeldro.cli.cleanups import check_seal, save_cleanup
from yeldro.cli.place import find_database, find_records_folder
from yeldro.cli.request import opened, quote_word, read_duplicates_request, read_keeping, read_request
from yeldro.cli.screen import Screen, confirm, prompt
from yeldro.core.database import Database, Mode
from yeldro.core.outcome import RunResult
from yeldro.core.preview import Preview
from yeldro.core.reach import Action
from yeldro.core.restore import RestorePlan
from yeldro.core.selection import read_selection
from yeldro.core.tally import Tally
from yeldro.core.visible import one_line
from yeldro.errors import OutputClosed, UsageError
from yeldro.report.documents import make_run
from yeldro.report.duplicates import render_merging
from yeldro.report.grids import count
from yeldro.report.preview import render_preview
from yeldro.report.restore import render_plan
from yeldro.report.seal import render_changes
from yeldro.report.tally import render_ending, render_tallies, render_tally
from yeldro.store.config import Place
from yeldro.store.records import Keeping

NO_COPY = "No copy of these rows is kept: once committed, they are gone for good."
KEPT = "An exact copy is kept in {}; yeldro restore puts it back."
LEFT_OUT = "The archive goes without {}: what is restored from it is not whole."


def run_deletion(options: dict[str, Any]) -> int:
    """Preview, ask, delete, tell. Returns the exit status."""

    def work(database: Database, manner: running.Manner, person: Person, keeping: Keeping) -> RunResult:
        request = read_request(database, options)
        if options["save"]:
            save_cleanup("delete", options, read_selection(request.asked, database.schema, database.dialect), database)
        return running.delete(database, request, manner, person, keeping)

    return run_command("delete", options, work)


def run_dedupe(options: dict[str, Any]) -> int:
    """The same for the surplus rows of duplicates."""
    if not options["same"] or not (options["keep"] or options["same"] == "all"):
        raise UsageError(
            "dedupe needs --same and --keep: what makes rows the same, and which of them stays.",
            f"yeldro duplicates {options['table']} shows what there is.",
        )

    def work(database: Database, manner: running.Manner, person: Person, keeping: Keeping) -> RunResult:
        request = read_duplicates_request(database, options)
        if options["save"]:
            save_cleanup("dedupe", options, request.grouping.selection, database)
        return running.dedupe(database, request, manner, person, keeping)

    return run_command("dedupe", options, work)


def show_step(screen: Screen, found: Preview, number: int) -> None:
    """A preview, under the name of its step where it has a number."""
    if number:
        screen.show([Text(f"\nStep {number}, {found.step}", style="bold")])
    screen.show(render_merging(found) if found.duplicates else render_preview(found, screen.width, ""))


Work = Callable[[Database, running.Manner, "Person", Keeping], RunResult]


def run_command(kind: str, options: dict[str, Any], work: Work, place: Place | None = None) -> int:
    if kind != "run":
        check_seal(options)
    screen = Screen(options["format"])
    if options["ask_last"] and (options["yes"] or options["rehearse"]):
        raise UsageError("--ask-last excludes --yes and --rehearse.")
    if options["no_rollback"] and options["rehearse"]:
        raise UsageError("--no-rollback excludes --rehearse: not all of it could be taken back.")
    asks = not (options["yes"] or options["rehearse"])
    if asks and not sys.stdin.isatty():
        raise UsageError("There is no terminal to ask on.", "Give --yes to delete without a question, or --rehearse.")
    manner = running.Manner(options["rehearse"], asks and not options["ask_last"], options["ask_last"])
    place = place or find_database(options["db"])
    protected = place.name if place.protected and not options["rehearse"] else ""
    if protected and not asks and options["confirm"] != protected:
        raise UsageError(
            f"The database {protected} is protected: --yes alone is not enough.", f"Say --confirm {protected} too."
        )
    warning = ""
    if not options["rehearse"]:
        left_out = ", ".join(options["leave_out"])
        kept = KEPT.format(options["archive_table"] or find_records_folder(options["archive"]))
        warning = NO_COPY if options["no_archive"] else LEFT_OUT.format(left_out) if left_out else kept
    person = Person(screen, place.title, warning, "" if options["confirm"] == protected else protected)
    person.quiet = bool(options.get("quiet"))
    with opened(place, Mode.WRITE, options["wait"], options["allow_function"]) as database:
        result = work(database, manner, person, read_keeping(kind, options, place.address))
    where = f" --archive {quote_word(options['archive'])}" if options["archive"] else ""
    where += "" if place.name or place.address.is_file else f" --db {quote_word(str(place.address))}"
    back = "" if options["no_archive"] else f"yeldro restore {result.run}{where}"
    if not (person.quiet and result.outcome is running.Outcome.NOTHING_MATCHED):
        tell(screen, kind, result, back, person)
    return result.status


def tell(screen: Screen, kind: str, result: RunResult, back: str, person: Person) -> None:
    """Write how a run, or a restoration, ended. What goes wrong with that does not change how it ended."""
    try:
        person.end()
        _tell(screen, kind, result, back, asked_last=person.asked_last)
    except Exception as error:
        if os.environ.get("YELDRO_DEBUG"):
            raise
        name = f" {result.run}" if result.run else ""
        text = f"The run{name} ended: {result.outcome.label}. What it did could not be shown ({type(error).__name__})."
        sys.stderr.write(f"{one_line(text)}\n")


def _tell(screen: Screen, kind: str, result: RunResult, back: str, *, asked_last: bool) -> None:
    try:
        if screen.format == "json":
            screen.write_document(make_run(kind, result))
            return
        if result.tally and not asked_last:
            screen.show(render_tallies(result))
        screen.show(render_ending(result, back))
    except OutputClosed:
        pass  # the exit status still says how it ended
    if result.reason:
        screen.tell(result.reason, result.hint)


class Person:
    """Answers from the terminal. `title` is the database, `done` is what a progress bar says of rows.

    `warning` is what must be known about the archive; `protected` is the name of a database that must be typed before a
    commit, "" where none must.
    """

    def __init__(self, screen: Screen, title: str, warning: str, protected: str, done: str = "archived") -> None:
        self.screen = screen
        self.title = title
        self.warning = warning
        self.protected = protected
        self.asked_last = False
        self.shown = 0
        self.several = False
        self.shows_changes = False
        self.quiet = False
        self.bar = Bar(done)

    def show(self, preview: Preview) -> None:
        self.shown += 1
        if self.screen.format == "text" and not self.quiet:
            show_step(self.screen, preview, self.shown if self.several else 0)
            if self.shows_changes:
                self.screen.show(render_changes(preview))
            if self.warning and preview.reach.matched and not preview.refusals:
                self.screen.note(f"\n{self.warning}")
                self.warning = ""

    def allow(self, previews: Sequence[Preview]) -> bool:
        wanted = [found for found in previews if found.reach.matched]
        if len(previews) == 1:
            return self._ask(f"{_describe(wanted[0])}, in {self.title}?")
        for found in previews:
            text = _describe(found) if found in wanted else "nothing, as the data is now"
            self.screen.note(f"{'' if found is not previews[0] else chr(10)}Step {found.step}: {text}.")
        return self._ask(f"Each step sees what those before it did. Run them in one transaction, in {self.title}?")

    def allow_more(self, preview: Preview, rows: int) -> bool:
        what = f"{count(rows, 'row')} of it {'was' if rows == 1 else 'were'} not shown, and came by earlier steps"
        return self._ask(f"Step {preview.step}: {what}. {_describe(preview)}, in {self.title}?")

    def show_plan(self, plan: RestorePlan) -> None:
        if self.screen.format == "text":
            self.screen.show(render_plan(plan))

    def allow_restore(self, plan: RestorePlan) -> bool:
        return self._ask(f"Restore {count(plan.rows, 'row')} into {self.title}?")

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
        return prompt(f"{question} Type {self.protected} to go on", default="", show_default=False) == self.protected

    def committing(self) -> None:
        for name in ("SIGINT", "SIGTERM", "SIGHUP"):
            if hasattr(signal, name):
                signal.signal(getattr(signal, name), signal.SIG_IGN)


def _describe(preview: Preview) -> str:
    label = preview.selection.table.label
    going = [part for part in preview.reach.parts if part.action is Action.DELETE and part.table.label != label]
    own = sum(p.rows for p in preview.reach.parts if p.action is Action.DELETE and p.table.label == label)
    detached = sum(part.rows for part in preview.reach.parts if part.action is Action.DETACH)
    text = f"Delete {count(own, 'row')} of {label}"
    if preview.duplicates:
        text = f"Delete {count(own, 'surplus row')} of {label}"
    changes = preview.reach.changes
    for verb, action in (("move", Action.MOVE), ("fill", Action.FILL)):
        if rows := sum(change.rows - change.detached for change in changes if change.action is action):
            text += f", {verb} {count(rows, 'row')}"
    if going:
        text += f" and {count(sum(part.rows for part in going), 'row')} of {count(len(going), 'other table')}"
    return text + (f", and detach {count(detached, 'row')}" if detached else "")
