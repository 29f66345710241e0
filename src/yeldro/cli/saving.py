"""Cleanup files that are written: by --save, with their seals, and from the script of somebody
else."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

from msgspec.structs import asdict, replace

from yeldro.cli.cleanup_jobs import ChosenSteps, make_jobs
from yeldro.cli.place import from_file, name_database
from yeldro.cli.request import quote_word
from yeldro.cli.screen import Screen
from yeldro.cli.steps import is_moving, make_cleanup, make_reviewed, read_values
from yeldro.core.cleanup.cleanup import Cleanup, Step
from yeldro.core.cleanup.step_options import AnyOptions
from yeldro.core.database.connection import Database
from yeldro.core.review.verdict import Review
from yeldro.core.run.preview import Preview
from yeldro.core.run.seal import Seal, Sealing, list_sealed
from yeldro.core.selection.selection import Selection
from yeldro.errors import UsageError
from yeldro.options import DedupeOptions, GroupsOptions
from yeldro.store.cleanup_file import load_cleanup, save_file
from yeldro.store.seal_file import writing_seals
from yeldro.usecases import run as running


def seal_cleanup(database: Database, chosen: ChosenSteps) -> Iterator[Preview]:
    """Preview every step, and then write what they found into the file, as their seals."""
    jobs = make_jobs(database, chosen)
    seals: dict[str, Seal] = {}
    with writing_seals(chosen.path) as writer:
        for found in running.look_ahead(database, jobs, chosen.limits):
            sealing = Sealing()
            writer.add(found.step, sealing.watch(list_sealed(database, found.reach)))
            made = sealing.make(found.reach.touched)
            seals[found.step] = replace(made, values=_find_sealed_values(chosen))
            yield replace(found, seal=seals[found.step])
    steps = [_seal_step(step, seals[step.name]) for step in chosen.cleanup.steps]
    save_file(chosen.path, replace(chosen.cleanup, steps=tuple(steps)))


def _find_sealed_values(chosen: ChosenSteps) -> dict[str, str]:
    """The days that parameters mean now: the seal is on these."""
    relative = [one.name for one in chosen.cleanup.params if is_moving(one.type, one.default)]
    return {
        name: chosen.values[name].partition("=")[2] for name in relative if name in chosen.values
    }


def _seal_step(step: Step, seal: Seal) -> Step:
    written = {name: value for name, value in asdict(seal).items() if value or name != "values"}
    return replace(step, options={**step.options, "seal": written})


def check_seal(options: AnyOptions) -> None:
    """UsageError where a seal is asked for that nobody could keep."""
    if not options.seal:
        return
    if not options.save:
        hint = "Give --save FILE, or preview FILE.toml --seal."
        raise UsageError("--seal needs a file to write the seal into.", hint)
    if not isinstance(options, GroupsOptions) and options.keys_from == "-":
        hint = "Put them into a file, and give --keys-from FILE."
        raise UsageError("--seal looks at the keys again.", hint)


def save_cleanup(options: AnyOptions, selection: Selection, database: Database) -> None:
    """Write what a command line asked for into the file of --save, with --seal sealed."""
    if isinstance(options, DedupeOptions) and options.decisions:
        raise UsageError("--decisions are for once: no file keeps them, so --save excludes them.")
    path = Path(options.save or "")
    _check_free(path, may_replace=options.replace)
    if not isinstance(options, GroupsOptions) and options.keys_from not in (None, "-"):
        options = options.but(keys_from=from_file(path, options.keys_from or ""))
    cleanup = make_cleanup(options, selection, name_database(path, options.db))
    save_file(path, _keep_written(path, cleanup))
    Screen("text").note(f"Wrote {path}: yeldro run {quote_word(str(path))} does the same again.")
    if options.seal:
        saved = load_cleanup(path)
        values = read_values(saved, saved.steps, (), None)
        for _ in seal_cleanup(database, ChosenSteps(path, saved, saved.steps, values)):
            pass


def _check_free(path: Path, *, may_replace: bool) -> None:
    if path.exists() and not may_replace:
        raise UsageError(f"There is a file {path} already.", "Give another name, or --replace.")


def save_reviewed(
    review: Review, source: Path, path: Path, db: str | None, *, may_replace: bool
) -> None:
    """Write the statements of a script that somebody wrote as a cleanup. UsageError where none of
    them can be."""
    cleanup, notes, left = make_reviewed(review, source.name, name_database(path, db))
    if not cleanup.steps:
        raise UsageError(f"No statement of {source} can be turned into a step.")
    _check_free(path, may_replace=may_replace)
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
    known = {param.name: param for param in old.params}
    params = [
        replace(known.get(param.name, param), type=param.type, default=param.default)
        for param in new.params
    ]
    kept = replace(
        new, title=old.title, description=old.description, guards=old.guards, params=tuple(params)
    )
    return replace(
        kept, database=new.database or old.database, steps=(replace(step, name=old.steps[0].name),)
    )
