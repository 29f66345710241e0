"""What `yeldro script` does."""

from __future__ import annotations

import re
from functools import partial
from pathlib import Path
from typing import cast

from msgspec import Struct

from yeldro.cli.cleanup_jobs import ChosenSteps, make_jobs, open_for, read_step
from yeldro.cli.screen import Screen
from yeldro.cli.steps import choose_steps, read_steps, read_values
from yeldro.core.database.abilities import Mode
from yeldro.core.database.connection import Database
from yeldro.core.model.schema import Schema
from yeldro.errors import Refused, UsageError
from yeldro.offline.schema_file import read_ddl
from yeldro.offline.script_writer import Task
from yeldro.offline.targets import TARGETS, write_offline
from yeldro.options import ScriptOptions
from yeldro.report.script import comment, render_blueprint, render_script
from yeldro.store.cleanup_file import load_cleanup
from yeldro.store.seal_file import find_difference
from yeldro.usecases.write_script import write_down


def write_script(options: ScriptOptions) -> int:
    """Write the script of a cleanup to standard output. Returns the exit status."""
    path = Path(options.cleanup)
    cleanup = load_cleanup(path)
    screen = Screen(options.format)
    steps = choose_steps(cleanup, options.step)
    values = read_values(cleanup, steps, options.parameters, None)
    chosen = ChosenSteps(path, cleanup, steps, values)
    archive = _name_archive(path, options)
    if bool(options.target) != bool(options.schema):
        raise UsageError(
            "--for and --schema go together.", "--schema FILE holds the CREATE TABLE statements."
        )
    if options.target and options.schema:
        return _write_out(screen, _write_offline(chosen, options, archive))
    with open_for(chosen, options, Mode.WRITE) as database:
        compare = partial(find_difference, path)
        writing = write_down(
            database, lambda on: make_jobs(on, chosen), chosen.limits, compare, archive
        )
    return _write_out(screen, render_script(writing, cleanup.title, path.name, dry=options.dry))


def _name_archive(path: Path, options: ScriptOptions) -> str:
    """How the tables begin in which a script keeps copies, "" where it keeps none."""
    if not options.no_archive:
        plain = "_".join(re.findall(r"\w+", path.stem))
        return options.archive_table or f"kept_{plain}"
    if options.archive_table:
        raise UsageError("--no-archive excludes --archive-table.")
    return ""


class _Nowhere(Struct, frozen=True):
    """Stands for a database that nobody connects to: requests are read against its schema."""

    schema: Schema
    dialect: str


def _write_offline(chosen: ChosenSteps, options: ScriptOptions, archive: str) -> str:
    kind = TARGETS[options.target or ""]
    path = Path(options.schema or "")
    try:
        schema, quoted = read_ddl(path.read_text("utf-8"), kind.dialect)
    except OSError as error:
        raise UsageError(f"{path} cannot be read: {error.strerror}.") from None
    except UnicodeDecodeError:
        raise UsageError(f"{path} is not a text in UTF-8.") from None
    nowhere = cast(Database, _Nowhere(schema, kind.dialect))
    for step in chosen.steps:
        if step.seal:
            raise Refused(f"Step {step.name} is sealed, and nobody can look at the rows from here.")
    name = chosen.path.name
    tasks = read_steps(
        name, chosen.steps, lambda step: Task(step.name, read_step(nowhere, chosen, step))
    )
    target = kind(quoted)
    lines = write_offline(
        schema, target, tasks, chosen.limits, archive, dry=options.dry, comment=comment
    )
    return render_blueprint(lines, chosen.cleanup.title, name, path.name, target, dry=options.dry)


def _write_out(screen: Screen, text: str) -> int:
    if screen.format == "json":
        screen.write_document({"kind": "script", "script": text})
    else:
        screen.write_text(text)
    return 0
