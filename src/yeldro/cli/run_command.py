"""What every command that changes rows does: ask, run, tell."""

from __future__ import annotations

import os
import sys
from collections.abc import Callable
from typing import Any

from yeldro.cli.person import Person
from yeldro.cli.place import find_database, find_records_folder
from yeldro.cli.request import opened, quote_word, read_keeping
from yeldro.cli.saving import check_seal
from yeldro.cli.screen import Screen
from yeldro.core.database.connection import Database, Mode
from yeldro.core.model.visible import one_line
from yeldro.core.run.outcome import RunResult
from yeldro.errors import OutputClosed, UsageError
from yeldro.report.documents import make_run
from yeldro.report.tally import render_ending, render_tallies
from yeldro.store.config import Place
from yeldro.store.records import Keeping
from yeldro.usecases import run as running

NO_COPY = "No copy of these rows is kept: once committed, they are gone for good."
KEPT = "An exact copy is kept in {}; yeldro restore puts it back."
LEFT_OUT = "The archive goes without {}: what is restored from it is not whole."


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
