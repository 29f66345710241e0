"""What every command that changes rows does: ask, run, tell."""

from __future__ import annotations

import os
import sys
from collections.abc import Callable

from msgspec import Struct
from msgspec.structs import replace

from yeldro.cli.connect import opened, watched
from yeldro.cli.consent import check_consent, find_protection
from yeldro.cli.person import Person
from yeldro.cli.place import find_database, find_records_folder
from yeldro.cli.request import quote_word, read_keeping
from yeldro.cli.screen import Screen
from yeldro.core.database.abilities import Mode
from yeldro.core.database.connection import Database
from yeldro.core.model.visible import one_line
from yeldro.core.run.outcome import RunResult
from yeldro.errors import OutputClosed, UsageError
from yeldro.options import ChangingOptions, PaceOptions, RecordOptions, RunOptions
from yeldro.report.documents import make_run
from yeldro.report.tally import render_ending, render_tallies
from yeldro.store.config import Place
from yeldro.store.run_record import Keeping
from yeldro.usecases import run as running
from yeldro.usecases.afterwards import look_afterwards

NO_COPY = "No copy of these rows is kept: once committed, they cannot be restored."
KEPT = "A copy will be saved in {} before anything is {}; yeldro restore puts it back."
LEFT_OUT = "The archive goes without {}: what is restored from it is not whole."


Work = Callable[[Database, running.Manner, Person, Keeping], RunResult]


class Command(Struct, frozen=True):
    """One command that changes rows: what it is called, its options, and the line that asks for the
    same."""

    kind: str
    options: ChangingOptions
    line: str


def run_command(command: Command, work: Work, place: Place | None = None) -> int:
    """Ask, let `work` do it, tell how it ended. Returns the exit status."""
    options = command.options
    screen = Screen(options.format)
    if options.ask_last and (options.yes or options.rehearse):
        raise UsageError("--ask-last excludes --yes and --rehearse.")
    verb = "clear" if command.kind == "clear" else "delete"
    asks = check_consent(options, verb)
    manner = running.Manner(
        options.rehearse,
        asks and not options.ask_last,
        options.ask_last,
        options.recount,
    )
    place = place or find_database(options.db)
    protected = find_protection(options, place, asks=asks)
    person = Person(screen, place.title, _warn_of_copy(options, verb), protected)
    person.quiet = isinstance(options, RunOptions) and options.quiet
    behind = options.behind if isinstance(options, PaceOptions) else None
    with (
        watched(place, behind) as followers,
        opened(place, Mode.WRITE, options.wait, options.allow_function) as database,
    ):
        keeping = read_keeping(command.kind, options, command.line, place.address)
        manner = replace(manner, followers=followers)
        result = work(database, manner, person, keeping)
        result = look_afterwards(database, result, analyze=options.then_analyze)
    if not (person.quiet and result.outcome is running.Outcome.NOTHING_MATCHED):
        back = "" if options.no_archive else make_way_back(options, place, result)
        onward = make_way_back(options, place, result, "resume")
        tell(screen, command.kind, result, back, person, onward)
    return result.status


def _warn_of_copy(options: ChangingOptions, verb: str) -> str:
    """What must be known about the copy before anything is deleted, or cleared."""
    if options.rehearse:
        return ""
    if options.no_archive:
        return NO_COPY
    if options.leave_out:
        return LEFT_OUT.format(", ".join(options.leave_out))
    done = {"delete": "deleted", "clear": "cleared"}[verb]
    return KEPT.format(options.archive_table or find_records_folder(options.archive), done)


def make_way_back(
    options: RecordOptions, place: Place, result: RunResult, verb: str = "restore"
) -> str:
    """The line that takes a run back, or another one of it, with what it needs to find its record
    and its database."""
    line = f"yeldro {verb} {result.run}"
    if options.archive:
        line += f" --archive {quote_word(options.archive)}"
    if not place.name and not place.address.is_file:
        line += f" --db {quote_word(str(place.address))}"
    return line


def tell(
    screen: Screen, kind: str, result: RunResult, back: str, person: Person, onward: str = ""
) -> None:
    """Write how a run, or a restoration, ended. What goes wrong with that does not change how it
    ended."""
    try:
        person.end()
        _tell(screen, kind, result, back, onward, asked_last=person.asked_last)
    except Exception as error:
        if os.environ.get("YELDRO_DEBUG"):
            raise
        name = f" {result.run}" if result.run else ""
        text = (
            f"The run{name} ended: {result.outcome.label}. What it did could not be shown "
            f"({type(error).__name__})."
        )
        sys.stderr.write(f"{one_line(text)}\n")


def _tell(
    screen: Screen, kind: str, result: RunResult, back: str, onward: str, *, asked_last: bool
) -> None:
    try:
        if screen.format == "json":
            screen.write_document(make_run(kind, result))
            return
        if result.tally and not asked_last:
            screen.show(render_tallies(result))
        screen.show(render_ending(result, back, onward))
    except OutputClosed:
        pass  # the exit status still says how it ended
    if result.reason and result.status:
        screen.tell(result.reason, result.hint)
    elif result.reason:
        screen.note(result.reason)
