"""What `yeldro delete` does, and the person it asks."""

from __future__ import annotations

import signal
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any

import click
from rich.text import Text

from yeldro import workflow
from yeldro.cli.bar import Bar
from yeldro.cli.place import find_database, find_records_folder
from yeldro.cli.request import opened, quote_word, read_duplicates_request, read_keeping, read_request
from yeldro.cli.screen import Screen
from yeldro.cli.steps import choose_step, make_options, read_values, save_cleanup
from yeldro.core.cleanup import Param
from yeldro.core.database import Database, Mode
from yeldro.core.outcome import RunResult
from yeldro.core.preview import Preview
from yeldro.core.reach import Action
from yeldro.core.restore import RestorePlan
from yeldro.core.selection import read_selection
from yeldro.core.tally import Tally
from yeldro.errors import OutputClosed, Refused, UsageError, YeldroError
from yeldro.report.documents import make_preview, make_run
from yeldro.report.duplicates import make_duplicates, render_merging
from yeldro.report.explanation import render_explanation
from yeldro.report.grids import count
from yeldro.report.preview import render_preview
from yeldro.report.restore import render_plan
from yeldro.report.tally import render_ending, render_tally
from yeldro.store.cleanup_file import load_cleanup
from yeldro.store.log import describe_run, open_log, write_log
from yeldro.store.records import Keeping

NO_COPY = "No copy of these rows is kept: once committed, they are gone for good."
KEPT = "An exact copy is kept in {}; yeldro restore puts it back."
LEFT_OUT = "The archive goes without {}: what is restored from it is not whole."


def run_deletion(options: dict[str, Any]) -> int:
    """Preview, ask, delete, tell. Returns the exit status."""

    def work(database: Database, manner: workflow.Manner, person: Person, keeping: Keeping) -> RunResult:
        request = read_request(database, options)
        if options["save"]:
            save_cleanup("delete", options, read_selection(request.asked, database.schema, database.dialect))
        return workflow.delete(database, request, manner, person, keeping)

    return _run("delete", options, work)


def run_dedupe(options: dict[str, Any]) -> int:
    """The same for the surplus rows of duplicates."""
    if not options["same"] or not (options["keep"] or options["same"] == "all"):
        raise UsageError(
            "dedupe needs --same and --keep: what makes rows the same, and which of them stays.",
            f"yeldro duplicates {options['table']} shows what there is.",
        )

    def work(database: Database, manner: workflow.Manner, person: Person, keeping: Keeping) -> RunResult:
        request = read_duplicates_request(database, options)
        if options["save"]:
            save_cleanup("dedupe", options, request.grouping.selection)
        return workflow.dedupe(database, request, manner, person, keeping)

    return _run("dedupe", options, work)


def run_cleanup(options: dict[str, Any]) -> int:
    """Run the step of a cleanup file."""
    cleanup = load_cleanup(Path(options["cleanup"]))
    if options["explain"]:
        Screen("text").show(render_explanation(cleanup))
        return 0
    step = choose_step(cleanup, options["step"])
    asks = not (options["yes"] or options["format"] == "json") and sys.stdin.isatty()
    values = read_values(cleanup, options["parameters"], _ask_value if asks else None)
    asked = make_options(step, cleanup.guards, values)
    place = {"db": options["db"] or cleanup.database or None}

    name = Path(options["cleanup"]).name

    def work(database: Database, manner: workflow.Manner, person: Person, keeping: Keeping) -> RunResult:
        if not database.exclude(f"yeldro run {name}"):
            raise Refused("Another run of this cleanup is under way on this database.", "Try again when it is done.")
        if step.verb == "delete":
            return workflow.delete(database, read_request(database, asked), manner, person, keeping)
        return workflow.dedupe(database, read_duplicates_request(database, asked), manner, person, keeping)

    log = open_log(options["log"]) if options["log"] else None
    try:
        return _run("run", {**options, **place, "log": log}, work)
    except YeldroError as error:
        if log:
            write_log(log, f"run {name}: {error.message}", failed=True)
        raise


def preview_cleanup(options: dict[str, Any]) -> int:
    """Show every step of a cleanup file as the data is now. Returns the exit status."""
    cleanup = load_cleanup(Path(options["table"]))
    screen = Screen(options["format"])
    if screen.format == "csv":
        raise UsageError("A cleanup file is shown as text or as JSON.")
    asks = screen.format == "text" and sys.stdin.isatty()
    values = read_values(cleanup, options["parameters"], _ask_value if asks else None)
    documents, status = [], 0
    with opened(find_database(options["db"] or cleanup.database or None), Mode.READ, options["wait"]) as database:
        for step in cleanup.steps:
            asked = make_options(step, cleanup.guards, values)
            if step.verb == "delete":
                found = workflow.preview(database, read_request(database, asked))
                shown = render_preview(found, screen.width, "")
                documents.append(make_preview(found))
            else:
                found = workflow.merging(database, read_duplicates_request(database, asked))
                assert found.duplicates
                shown = render_merging(found)
                documents.append(make_duplicates(found.duplicates, found))
            documents[-1]["step"] = step.name
            status = max(status, Refused.status if found.refusals else 0)
            if screen.format == "text":
                screen.show([Text(f"\nStep {len(documents)}, {step.name}", style="bold"), *shown])
                for reason in found.refusals[:1]:
                    screen.note(f"\nWould be stopped: {reason}")
    if screen.format == "json":
        screen.write_document({"kind": "preview", "steps": documents})
    return status


def _ask_value(param: Param) -> str:
    question = param.ask or f"{param.name} ({param.type})?"
    try:
        return str(click.prompt(question, err=True))
    except click.Abort:
        raise KeyboardInterrupt from None


Work = Callable[[Database, workflow.Manner, "Person", Keeping], RunResult]


def _run(kind: str, options: dict[str, Any], work: Work) -> int:
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
    warning = ""
    if not options["rehearse"]:
        left_out = ", ".join(options["leave_out"])
        kept = KEPT.format(options["archive_table"] or find_records_folder(options["archive"]))
        warning = NO_COPY if options["no_archive"] else LEFT_OUT.format(left_out) if left_out else kept
    person = Person(screen, warning, "" if options["confirm"] == protected else protected)
    person.quiet = bool(options.get("quiet"))
    with opened(place, Mode.WRITE, options["wait"]) as database:
        result = work(database, manner, person, read_keeping(kind, options, place.address))
    person.end()
    where = f" --archive {quote_word(options['archive'])}" if options["archive"] else ""
    back = "" if options["no_archive"] else f"yeldro restore {result.run}{where}"
    if options.get("log"):
        write_log(options["log"], describe_run(Path(options["cleanup"]).name, result), failed=bool(result.status))
    if not (person.quiet and result.outcome is workflow.Outcome.NOTHING_MATCHED):
        tell(screen, kind, result, back, asked_last=person.asked_last)
    return result.status


def tell(screen: Screen, kind: str, result: RunResult, back: str = "", *, asked_last: bool = False) -> None:
    """Write how a run, or a restoration, ended."""
    try:
        if screen.format == "json":
            screen.write_document(make_run(kind, result))
            return
        if result.tally and not asked_last:
            screen.show(render_tally(result.tally))
        screen.show(render_ending(result, back))
    except OutputClosed:
        pass  # the exit status still says how it ended
    if result.reason:
        screen.tell(result.reason, result.hint)


class Person:
    """Answers from the terminal. `done` is what a progress bar says of rows.

    `warning` is what must be known about the archive; `protected` is the name of a database that must be typed before a
    commit, "" where none must.
    """

    def __init__(self, screen: Screen, warning: str, protected: str, done: str = "archived") -> None:
        self.screen = screen
        self.warning = warning
        self.protected = protected
        self.asked_last = False
        self.quiet = False
        self.bar = Bar(done)

    def show(self, preview: Preview) -> None:
        if self.screen.format == "text" and not self.quiet:
            is_merging = preview.duplicates is not None
            self.screen.show(render_merging(preview) if is_merging else render_preview(preview, self.screen.width, ""))
            if self.warning and preview.reach.matched and not preview.refusals:
                self.screen.note(f"\n{self.warning}")

    def allow(self, preview: Preview) -> bool:
        return self._ask(f"{_describe(preview)}?")

    def show_plan(self, plan: RestorePlan) -> None:
        if self.screen.format == "text":
            self.screen.show(render_plan(plan))

    def allow_restore(self, plan: RestorePlan) -> bool:
        return self._ask(f"Restore {count(plan.rows, 'row')}?")

    def copying(self, rows: int, total: int) -> None:
        self.bar.move(rows, total)

    def end(self) -> None:
        self.bar.stop()

    def allow_commit(self, tally: Tally) -> bool:
        self.asked_last = True
        self.bar.stop()
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
    if preview.duplicates:
        text = f"Delete {count(own, 'surplus row')} of {label}"
    changes = preview.reach.changes
    for verb, action in (("move", Action.MOVE), ("fill", Action.FILL)):
        if rows := sum(change.rows - change.detached for change in changes if change.action is action):
            text += f", {verb} {count(rows, 'row')}"
    if going:
        text += f" and {count(sum(part.rows for part in going), 'row')} of {count(len(going), 'other table')}"
    return text + (f", and detach {count(detached, 'row')}" if detached else "")
