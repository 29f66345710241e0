"""Cleanup files that are written: by --save, with their seals, and from the script of somebody else."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import asdict, replace
from pathlib import Path
from typing import Any

from yeldro.cli.cleanup_jobs import make_jobs
from yeldro.cli.place import from_file, name_database
from yeldro.cli.steps import (
    make_cleanup,
    make_reviewed,
    read_limits,
    read_values,
)
from yeldro.core.cleanup.cleanup import Cleanup
from yeldro.core.database.connection import Database
from yeldro.core.review.verdict import Review
from yeldro.core.run.preview import Preview
from yeldro.core.run.seal import Seal, Sealing, list_sealed
from yeldro.core.selection.selection import Selection
from yeldro.errors import UsageError
from yeldro.store.cleanup_file import load_cleanup, save_file
from yeldro.store.seal_file import writing_seals
from yeldro.usecases import run as running


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
