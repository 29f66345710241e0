"""What `yeldro script` does."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import Any, cast

from yeldro.cli.cleanup_jobs import make_jobs, open_for, read_step
from yeldro.cli.screen import Screen
from yeldro.cli.steps import (
    choose_steps,
    read_limits,
    read_steps,
    read_values,
)
from yeldro.core.cleanup.cleanup import Cleanup, Step
from yeldro.core.database.connection import Database, Mode
from yeldro.core.model.schema import Schema
from yeldro.errors import Refused, UsageError
from yeldro.offline.schema_file import read_ddl
from yeldro.offline.script_writer import Task, write_blueprint
from yeldro.offline.target import TARGETS
from yeldro.report.script import comment, render_blueprint, render_script
from yeldro.store.cleanup_file import load_cleanup
from yeldro.store.seal_file import find_difference
from yeldro.usecases.write_script import write_down


def write_script(options: dict[str, Any]) -> int:
    """Write the script of a cleanup to standard output. Returns the exit status."""
    path = Path(options["cleanup"])
    cleanup = load_cleanup(path)
    screen = Screen(options["format"])
    steps = choose_steps(cleanup, options["step"])
    values = read_values(cleanup, steps, options["parameters"], None)
    if options["archive_table"] and options["no_archive"]:
        raise UsageError("--no-archive excludes --archive-table.")
    plain = "_".join(re.findall(r"\w+", path.stem))
    archive = "" if options["no_archive"] else options["archive_table"] or f"kept_{plain}"
    if bool(options["target"]) != bool(options["schema"]):
        raise UsageError("--for and --schema go together.", "--schema FILE holds the CREATE TABLE statements.")
    if options["target"]:
        text = _write_blueprint(path, cleanup, steps, values, options, archive)
        return _write_out(screen, text)
    with open_for(path, cleanup, options, Mode.WRITE) as database:
        writing = write_down(
            database,
            lambda on: make_jobs(on, path, cleanup, steps, values),
            read_limits(cleanup.guards),
            partial(find_difference, path),
            archive,
        )
    return _write_out(screen, render_script(writing, cleanup.title, path.name, dry=options["dry"]))


@dataclass(frozen=True, slots=True)
class _Nowhere:
    """Stands for a database that nobody connects to: requests are read against its schema."""

    schema: Schema
    dialect: str


def _write_blueprint(
    file: Path,
    cleanup: Cleanup,
    steps: Sequence[Step],
    values: Mapping[str, str],
    options: dict[str, Any],
    archive: str,
) -> str:
    kind = TARGETS[options["target"]]
    path = Path(options["schema"])
    try:
        schema, quoted = read_ddl(path.read_text("utf-8"), kind.dialect)
    except OSError as error:
        raise UsageError(f"{path} cannot be read: {error.strerror}.") from None
    except UnicodeDecodeError:
        raise UsageError(f"{path} is not a text in UTF-8.") from None
    nowhere = cast(Database, _Nowhere(schema, kind.dialect))
    for step in steps:
        if step.seal:
            raise Refused(f"Step {step.name} is sealed, and nobody can look at the rows from here.")
    tasks = read_steps(file.name, steps, lambda step: Task(step.name, read_step(nowhere, file, cleanup, step, values)))
    limits, dry = read_limits(cleanup.guards), bool(options["dry"])
    target = kind(quoted)
    lines = write_blueprint(schema, target, tasks, limits, archive, dry=dry, comment=comment)
    return render_blueprint(lines, cleanup.title, file.name, path.name, target, dry=dry)


def _write_out(screen: Screen, text: str) -> int:
    if screen.format == "json":
        screen.write_document({"kind": "script", "script": text})
    else:
        screen.write_text(text)
    return 0
