"""What is done with cleanup files: run them, preview them, seal them, and save them."""

from __future__ import annotations

import re
import sys
from collections.abc import Iterator, Mapping, Sequence
from contextlib import AbstractContextManager
from dataclasses import asdict, dataclass, replace
from functools import partial
from pathlib import Path
from typing import Any, cast

from yeldro import running
from yeldro.cli.place import find_cleanup_database, from_file, name_database
from yeldro.cli.request import opened, read_duplicates_request, read_request
from yeldro.cli.screen import Screen, prompt
from yeldro.cli.steps import (
    choose_steps,
    make_cleanup,
    make_options,
    make_reviewed,
    read_limits,
    read_steps,
    read_values,
)
from yeldro.core.blueprint import Task, write_blueprint
from yeldro.core.cleanup import Cleanup, Param, Step
from yeldro.core.database import Database, Mode
from yeldro.core.ddl import read_ddl
from yeldro.core.duplicates import DuplicatesRequest
from yeldro.core.outcome import RunResult
from yeldro.core.preview import Preview, Request
from yeldro.core.review import Review
from yeldro.core.schema import Schema
from yeldro.core.seal import Seal, Sealing, list_sealed
from yeldro.core.selection import Selection
from yeldro.core.targets import TARGETS
from yeldro.errors import Refused, UsageError, YeldroError
from yeldro.jobs import Deletion, Merging
from yeldro.report.documents import make_preview
from yeldro.report.duplicates import make_duplicates
from yeldro.report.explanation import render_explanation
from yeldro.report.script import comment, render_blueprint, render_script
from yeldro.report.seal import make_changes, render_changes
from yeldro.scripting import write_down
from yeldro.store.cleanup_file import load_cleanup, save_file
from yeldro.store.log import Log, describe_run
from yeldro.store.records import Keeping
from yeldro.store.seal_file import find_difference, writing_seals


def run_cleanup(options: dict[str, Any]) -> int:
    """Run the steps of a cleanup file, in one transaction, and leave a line in the log where there is one."""
    log = Log(options["log"]) if options["log"] and not options["explain"] else None
    name = Path(options["cleanup"]).name
    try:
        status, told = _run_cleanup(options)
    except BaseException as error:
        told = error.message if isinstance(error, YeldroError) else f"it ended with {type(error).__name__}"
        _write_log(log, f"run {name}: {told}", failed=True)
        raise
    _write_log(log, told, failed=bool(status))
    return status


def _write_log(log: Log | None, told: str, *, failed: bool) -> None:
    if log and not log.write(told, failed=failed):
        Screen("text").note("The line could not be added to the log.")


def _run_cleanup(options: dict[str, Any]) -> tuple[int, str]:
    """The exit status, and the line on how it ended."""
    from yeldro.cli.deletion import Person, run_command

    path = Path(options["cleanup"])
    cleanup = load_cleanup(path)
    if options["explain"]:
        return _explain(cleanup, Screen(options["format"])), ""
    steps = choose_steps(cleanup, options["step"])
    asks = not (options["yes"] or options["format"] == "json") and sys.stdin.isatty()
    values = read_values(cleanup, steps, options["parameters"], _ask_value if asks else None)
    place = find_cleanup_database(path, cleanup.database, options["db"], asks=asks)
    told = ""

    def work(database: Database, manner: running.Manner, person: Person, keeping: Keeping) -> RunResult:
        nonlocal told
        database.exclude(f"yeldro run {path.name}")
        person.several = len(steps) > 1
        person.shows_changes = options["show_changes"]
        jobs = make_jobs(database, path, cleanup, steps, values, no_rollback=options["no_rollback"])
        compare = partial(find_difference, path)
        result = running.run(database, jobs, manner, person, keeping, read_limits(cleanup.guards), compare)
        told = describe_run(path.name, result)
        return result

    return run_command("run", options, work, place), told


def _explain(cleanup: Cleanup, screen: Screen) -> int:
    if screen.format == "json":
        screen.write_document({"kind": "run", "explanation": [str(part) for part in render_explanation(cleanup)]})
    else:
        screen.show(render_explanation(cleanup))
    return 0


def _opened(path: Path, cleanup: Cleanup, options: Mapping[str, Any], mode: Mode) -> AbstractContextManager[Database]:
    asks = options["format"] == "text" and sys.stdin.isatty()
    place = find_cleanup_database(path, cleanup.database, options["db"], asks=asks)
    return opened(place, mode, options["wait"], options["allow_function"])


def preview_cleanup(options: dict[str, Any]) -> int:
    """Show every step of a cleanup file as the data is now, and seal it if that is asked for. Returns the status."""
    from yeldro.cli.deletion import show_step

    path = Path(options["table"])
    cleanup = load_cleanup(path)
    screen = Screen(options["format"])
    if screen.format == "csv":
        raise UsageError("A cleanup file is shown as text or as JSON.")
    asks = screen.format == "text" and sys.stdin.isatty()
    values = read_values(cleanup, cleanup.steps, options["parameters"], _ask_value if asks else None)
    documents, status, settled = [], 0, False
    with _opened(path, cleanup, options, Mode.READ) as database:
        look = seal_cleanup if options["seal"] else _look
        for found in look(database, path, cleanup, values):
            document = make_duplicates(found.duplicates, found) if found.duplicates else make_preview(found)
            documents.append({"step": found.step, **document, **make_changes(found)})
            if screen.format == "text":
                show_step(screen, found, len(documents))
                if options["show_changes"]:
                    screen.show(render_changes(found))
                for reason in found.refusals[:1]:
                    screen.note(f"\n{'As the data is now' if settled else 'Would be stopped'}: {reason}")
            if found.difference or (found.refusals and not settled):
                status = Refused.status
            settled = settled or bool(found.reach.matched or found.refusals)
    if screen.format == "json":
        screen.write_document({"kind": "preview", "steps": documents})
    elif options["seal"]:
        screen.note(f"\nSealed: {path} runs only while it finds exactly these rows.")
    return status


def _look(database: Database, path: Path, cleanup: Cleanup, values: Mapping[str, str]) -> Iterator[Preview]:
    jobs = make_jobs(database, path, cleanup, cleanup.steps, values)
    return running.look_ahead(database, jobs, read_limits(cleanup.guards), partial(find_difference, path))


def seal_cleanup(database: Database, path: Path, cleanup: Cleanup, values: Mapping[str, str]) -> Iterator[Preview]:
    """Preview every step, and then write what they found into the file, as their seals."""
    jobs = make_jobs(database, path, cleanup, cleanup.steps, values)
    seals: dict[str, Seal] = {}
    with writing_seals(path) as writer:
        for found in running.look_ahead(database, jobs, read_limits(cleanup.guards)):
            sealing = Sealing()
            writer.add(found.step, sealing.watch(list_sealed(database, found.reach)))
            seals[found.step] = sealing.make(found.reach.matched)
            yield replace(found, seal=seals[found.step])
    steps = [replace(step, options={**step.options, "seal": asdict(seals[step.name])}) for step in cleanup.steps]
    save_file(path, replace(cleanup, steps=tuple(steps)))


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
    with _opened(path, cleanup, options, Mode.WRITE) as database:
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
    tasks = read_steps(
        file.name, steps, lambda step: Task(step.name, _read_request(nowhere, file, cleanup, step, values))
    )
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
        asked = _read_request(database, path, cleanup, step, values, no_rollback=no_rollback)
        kind = Deletion if isinstance(asked, Request) else Merging
        return kind(database, asked, step.name, step.seal)  # type: ignore[arg-type]  # each has its own request

    return read_steps(str(path), steps, make)


def _read_request(
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


def check_seal(options: Mapping[str, Any]) -> None:
    if options["seal"] and not options["save"]:
        raise UsageError(
            "--seal needs a file to write the seal into.", "Give --save FILE, or preview FILE.toml --seal."
        )
    if options["seal"] and options.get("keys_from") == "-":
        raise UsageError("--seal looks at the keys again.", "Put them into a file, and give --keys-from FILE.")


def save_cleanup(verb: str, options: Mapping[str, Any], selection: Selection, database: Database) -> None:
    """Write what a command line asked for into the file of --save, with --seal sealed."""
    path = Path(options["save"])
    if path.exists() and not options["replace"]:
        raise UsageError(f"There is a file {path} already.", "Give another name, or --replace.")
    named = {"db": name_database(path, options["db"])}
    if options.get("keys_from") not in (None, "-"):
        named["keys_from"] = from_file(path, options["keys_from"])
    save_file(path, _keep_written(path, make_cleanup(verb, {**options, **named}, selection)))
    if options["seal"]:
        cleanup = load_cleanup(path)
        for _ in seal_cleanup(database, path, cleanup, read_values(cleanup, cleanup.steps, (), None)):
            pass


def save_reviewed(review: Review, source: Path, path: Path, db: str | None, *, replace: bool) -> None:
    """Write the statements of a script that somebody wrote as a cleanup. UsageError where none of them can be."""
    cleanup, notes, left = make_reviewed(review, source.name, name_database(path, db))
    if not cleanup.steps:
        raise UsageError(f"No statement of {source} can be turned into a step.")
    if path.exists() and not replace:
        raise UsageError(f"There is a file {path} already.", "Give another name, or --replace.")
    save_file(path, cleanup, notes, left)


def _keep_written(path: Path, new: Cleanup) -> Cleanup:
    """What a person wrote into an older file of the same job, which no option says."""
    try:
        old = load_cleanup(path)
    except UsageError:
        return new
    (step,) = new.steps
    if [(one.verb, one.table) for one in old.steps] != [(step.verb, step.table)]:
        return new
    known = {one.name: one for one in old.params}
    params = [replace(known.get(one.name, one), type=one.type, default=one.default) for one in new.params]
    kept = replace(new, title=old.title, description=old.description, guards=old.guards, params=tuple(params))
    return replace(kept, database=new.database or old.database, steps=(replace(step, name=old.steps[0].name),))


def _ask_value(param: Param) -> str:
    question = param.ask or f"{param.name} ({param.type})?"
    return prompt(question)
