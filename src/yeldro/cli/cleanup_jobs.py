"""The steps of a cleanup file as jobs, with their values and their database."""

from __future__ import annotations

import sys
from collections.abc import Mapping, Sequence
from contextlib import AbstractContextManager
from pathlib import Path
from typing import Any

from yeldro.cli.place import find_cleanup_database
from yeldro.cli.request import opened, read_duplicates_request, read_request
from yeldro.cli.screen import prompt
from yeldro.cli.steps import (
    make_options,
    read_steps,
)
from yeldro.core.cleanup.cleanup import Cleanup, Param, Step
from yeldro.core.database.connection import Database, Mode
from yeldro.core.duplicates.groups import DuplicatesRequest
from yeldro.core.run.preview import Request
from yeldro.usecases.steps import Deletion, Merging


def open_for(path: Path, cleanup: Cleanup, options: Mapping[str, Any], mode: Mode) -> AbstractContextManager[Database]:
    asks = options["format"] == "text" and sys.stdin.isatty()
    place = find_cleanup_database(path, cleanup.database, options["db"], asks=asks)
    return opened(place, mode, options["wait"], options["allow_function"])


def make_jobs(
    database: Database,
    path: Path,
    cleanup: Cleanup,
    steps: Sequence[Step],
    values: Mapping[str, str],
    *,
    no_rollback: bool = False,
) -> list[Deletion | Merging]:
    def make(step: Step) -> Deletion | Merging:
        asked = read_step(database, path, cleanup, step, values, no_rollback=no_rollback)
        kind = Deletion if isinstance(asked, Request) else Merging
        return kind(database, asked, step.name, step.seal)  # type: ignore[arg-type]  # each has its own request

    return read_steps(str(path), steps, make)


def read_step(
    database: Database,
    path: Path,
    cleanup: Cleanup,
    step: Step,
    values: Mapping[str, str],
    *,
    no_rollback: bool = False,
) -> Request | DuplicatesRequest:
    asked = {**make_options(step, cleanup.guards, values, path), "no_rollback": no_rollback}
    return (read_request if step.verb == "delete" else read_duplicates_request)(database, asked)


def ask_value(param: Param) -> str:
    question = param.ask or f"{param.name} ({param.type})?"
    return prompt(question)
