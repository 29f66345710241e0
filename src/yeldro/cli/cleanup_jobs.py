"""The steps of a cleanup file as jobs, with their values and their database."""

from __future__ import annotations

import sys
from collections.abc import Mapping, Sequence
from contextlib import AbstractContextManager
from pathlib import Path

from msgspec import Struct

from yeldro.cli.connect import opened
from yeldro.cli.place import find_cleanup_database
from yeldro.cli.request import read_duplicates_request, read_request
from yeldro.cli.screen import prompt
from yeldro.cli.steps import make_options, read_limits, read_steps
from yeldro.core.cleanup.cleanup import Cleanup, Param, Step
from yeldro.core.clearing.request import ClearRequest
from yeldro.core.database.abilities import Mode
from yeldro.core.database.connection import Database
from yeldro.core.duplicates.request import DuplicatesRequest
from yeldro.core.reach.request import Request
from yeldro.core.selection.guards import Guards
from yeldro.options import CallOptions, GroupsOptions
from yeldro.usecases.steps import BatchJob, Clearing, Deletion, Merging


class ChosenSteps(Struct, frozen=True):
    """The steps of a file that are to be done, with the values of its parameters, as `TYPE=VALUE`
    texts by name.

    `no_rollback`: the person knows that triggers do what no rollback takes back.
    """

    path: Path
    cleanup: Cleanup
    steps: Sequence[Step]
    values: Mapping[str, str]
    no_rollback: bool = False

    @property
    def limits(self) -> Guards:
        return read_limits(self.cleanup.guards)


def open_for(
    chosen: ChosenSteps, options: CallOptions, mode: Mode
) -> AbstractContextManager[Database]:
    """The database that a person or the file names, opened."""
    asks = options.format == "text" and sys.stdin.isatty()
    place = find_cleanup_database(chosen.path, chosen.cleanup.database, options.db, asks=asks)
    return opened(place, mode, options.wait, options.allow_function)


def make_jobs(database: Database, chosen: ChosenSteps) -> list[BatchJob]:
    """The steps as jobs on a database. UsageError with all that does not fit it."""

    def make(step: Step) -> BatchJob:
        match read_step(database, chosen, step):
            case ClearRequest() as asked:
                return Clearing(database, asked, step.name, step.seal)
            case Request() as asked:
                return Deletion(database, asked, step.name, step.seal)
            case asked:
                return Merging(database, asked, step.name, step.seal)

    return read_steps(str(chosen.path), chosen.steps, make)


def read_step(database: Database, chosen: ChosenSteps, step: Step) -> Request | DuplicatesRequest:
    """What one step asks for."""
    options = make_options(chosen.path, step, chosen.cleanup.guards, chosen.values)
    if isinstance(options, GroupsOptions):
        return read_duplicates_request(database, options, no_rollback=chosen.no_rollback)
    return read_request(database, options, no_rollback=chosen.no_rollback)


def ask_value(param: Param) -> str:
    question = param.ask or f"{param.name} ({param.type})?"
    return prompt(question)
