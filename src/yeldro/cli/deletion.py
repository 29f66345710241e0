"""What `yeldro delete`, `yeldro clear` and `yeldro dedupe` do."""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime
from typing import TypeVar

from msgspec.structs import replace

from yeldro.cli.pace import describe_pace, read_pace
from yeldro.cli.person import Person
from yeldro.cli.request import (
    make_line,
    read_clear_request,
    read_duplicates_request,
    read_request,
)
from yeldro.cli.run_command import Command, run_command
from yeldro.cli.saving import check_seal, save_cleanup
from yeldro.core.database.connection import Database
from yeldro.core.reach.request import Request
from yeldro.core.run.outcome import RunResult
from yeldro.core.selection.selection import read_selection
from yeldro.errors import UsageError
from yeldro.options import ClearOptions, DedupeOptions, DeletionOptions
from yeldro.store.run_record import Keeping
from yeldro.usecases import run as running
from yeldro.usecases.steps import BatchJob, Clearing, Deletion, Merging

AnyRequest = TypeVar("AnyRequest", bound=Request)


def run_deletion(options: DeletionOptions) -> int:
    """Preview, ask, delete, tell. Returns the exit status."""
    return _run_rows("delete", options, read_request, Deletion)


def run_clearing(options: ClearOptions) -> int:
    """The same for what the rows hold in some columns."""
    return _run_rows("clear", options, read_clear_request, Clearing)


def _run_rows(
    name: str,
    options: DeletionOptions | ClearOptions,
    read: Callable[..., AnyRequest],
    make: Callable[[Database, AnyRequest], BatchJob],
) -> int:
    check_seal(options)
    pace = read_pace(options, options.batch, datetime.now().astimezone())

    def work(
        database: Database, manner: running.Manner, person: Person, keeping: Keeping
    ) -> RunResult:
        request = read(database, options, no_rollback=options.no_rollback)
        if options.save:
            selection = read_selection(request.asked, database.schema, database.dialect)
            save_cleanup(options, selection, database)
        job, person.how = make(database, request), describe_pace(pace)
        return running.run(database, [job], replace(manner, pace=pace), person, keeping)

    return run_command(Command(name, options, make_line(name, options)), work)


def run_dedupe(options: DedupeOptions) -> int:
    """The same for the surplus rows of duplicates."""
    if not options.same or not (options.keep or options.decisions or options.same == "all"):
        raise UsageError(
            "dedupe needs --same and --keep: what makes rows the same, and which of them stays.",
            f"yeldro duplicates {options.table} shows what there is.",
        )
    check_seal(options)
    pace = read_pace(options, options.batch, datetime.now().astimezone())

    def work(
        database: Database, manner: running.Manner, person: Person, keeping: Keeping
    ) -> RunResult:
        request = read_duplicates_request(database, options, no_rollback=options.no_rollback)
        if options.save:
            save_cleanup(options, request.grouping.selection, database)
        job, person.how = Merging(database, request), describe_pace(pace)
        return running.run(database, [job], replace(manner, pace=pace), person, keeping)

    return run_command(Command("dedupe", options, make_line("dedupe", options)), work)
