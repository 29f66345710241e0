"""What `yeldro run` does."""

from __future__ import annotations

import sys
from functools import partial
from pathlib import Path

from msgspec.structs import replace

from yeldro.cli.cleanup_jobs import ChosenSteps, ask_value, make_jobs
from yeldro.cli.pace import describe_pace, read_step_pace
from yeldro.cli.person import Person
from yeldro.cli.place import find_cleanup_database
from yeldro.cli.preview_cleanup import preview_cleanup
from yeldro.cli.request import make_run_line
from yeldro.cli.run_command import Command, run_command
from yeldro.cli.screen import Screen
from yeldro.cli.steps import choose_steps, read_values
from yeldro.core.cleanup.cleanup import Cleanup
from yeldro.core.database.connection import Database
from yeldro.core.run.outcome import RunResult
from yeldro.errors import YeldroError
from yeldro.options import PreviewOptions, RunOptions
from yeldro.report.explanation import render_explanation
from yeldro.store.cleanup_file import load_cleanup
from yeldro.store.log import Log, describe_run
from yeldro.store.run_record import Keeping
from yeldro.store.seal_file import find_difference
from yeldro.usecases import run as running


def run_cleanup(options: RunOptions) -> int:
    """Run the steps of a cleanup file, in one transaction, and leave a line in the log where there
    is one."""
    only_looks = options.explain or options.show_changes
    log = Log(options.log) if options.log and not only_looks else None
    name = Path(options.cleanup).name
    try:
        status, told = _run_cleanup(options)
    except BaseException as error:
        told = (
            error.message
            if isinstance(error, YeldroError)
            else f"it ended with {type(error).__name__}"
        )
        _write_log(log, f"run {name}: {told}", failed=True)
        raise
    _write_log(log, told, failed=bool(status))
    return status


def _write_log(log: Log | None, told: str, *, failed: bool) -> None:
    if log and not log.write(told, failed=failed):
        Screen("text").note("The line could not be added to the log.")


def _run_cleanup(options: RunOptions) -> tuple[int, str]:
    """The exit status, and the line on how it ended."""
    path = Path(options.cleanup)
    cleanup = load_cleanup(path)
    if options.explain:
        return _explain(cleanup, Screen(options.format)), ""
    if options.show_changes:
        return preview_cleanup(_read_preview(options), options.step), ""
    steps = choose_steps(cleanup, options.step)
    asks = not (options.yes or options.format == "json") and sys.stdin.isatty()
    values = read_values(cleanup, steps, options.parameters, ask_value if asks else None)
    place = find_cleanup_database(path, cleanup.database, options.db, asks=asks)
    chosen = ChosenSteps(path, cleanup, steps, values, options.no_rollback)
    pace = read_step_pace(options, steps)
    told = ""

    def work(
        database: Database, manner: running.Manner, person: Person, keeping: Keeping
    ) -> RunResult:
        nonlocal told
        database.exclude(f"yeldro run {path.name}")
        person.several = len(steps) > 1
        jobs = make_jobs(database, chosen)
        compare = partial(find_difference, path)
        manner, person.how = replace(manner, pace=pace), describe_pace(pace)
        result = running.run(database, jobs, manner, person, keeping, chosen.limits, compare)
        plain = {name: value.partition("=")[2] for name, value in values.items()}
        told = describe_run(path.name, database.name, plain, result)
        return result

    return run_command(Command("run", options, make_run_line(options)), work, place), told


def _read_preview(options: RunOptions) -> PreviewOptions:
    """The look at a file that shows what changed since it was sealed."""
    return PreviewOptions(
        table=options.cleanup,
        db=options.db,
        wait=options.wait,
        format=options.format,
        parameters=options.parameters,
        allow_function=options.allow_function,
        show_changes=True,
    )


def _explain(cleanup: Cleanup, screen: Screen) -> int:
    if screen.format == "json":
        screen.write_document(
            {"kind": "run", "explanation": [str(part) for part in render_explanation(cleanup)]}
        )
    else:
        screen.show(render_explanation(cleanup))
    return 0
