"""What `yeldro resume` does."""

from __future__ import annotations

from datetime import datetime
from pathlib import Path

from msgspec.structs import replace

from yeldro.cli.asked_options import Asked, read_asked
from yeldro.cli.cleanup_jobs import ChosenSteps, make_jobs
from yeldro.cli.connect import opened, watched
from yeldro.cli.consent import check_consent, find_protection
from yeldro.cli.pace import describe_pace, read_pace
from yeldro.cli.person import Person
from yeldro.cli.place import confirm_place
from yeldro.cli.records import check_place, find_place_of, find_run
from yeldro.cli.request import (
    read_clear_request,
    read_duplicates_request,
    read_request,
)
from yeldro.cli.run_command import make_way_back, tell
from yeldro.cli.screen import Screen
from yeldro.cli.steps import choose_steps, read_values
from yeldro.core.database.abilities import Mode
from yeldro.core.database.connection import Database
from yeldro.core.run.batching import Pace
from yeldro.errors import Refused
from yeldro.options import ClearOptions, DedupeOptions, ResumeOptions, RunOptions
from yeldro.report.history import render_progress
from yeldro.store.cleanup_file import load_cleanup
from yeldro.store.run_record import RunRecord
from yeldro.usecases.afterwards import look_afterwards
from yeldro.usecases.resume import ResumedRun, check_resumable
from yeldro.usecases.run import Manner
from yeldro.usecases.steps import BatchJob, Clearing, Deletion, Merging


def resume_run(options: ResumeOptions) -> int:
    """Settle the last batch, show what is done and what is left, ask, go on."""
    screen = Screen(options.format)
    record = find_run(options, options.db, options.run)
    asks = check_consent(options, "go on")
    place = confirm_place(find_place_of(record, options.db), asks=asks)
    protected = find_protection(options, place, asks=asks)
    person = Person(screen, place.title, "", protected)
    asked = _read_asked(record)
    # SQLite keeps hold of an archive that it looked into, which the rest of the run must write.
    with opened(place, Mode.WRITE, options.wait) as database:
        check_place(place, database, record)
        check_resumable(database, record, even_if_altered=options.even_if_altered)
    with opened(place, Mode.WRITE, options.wait, asked.allow_function) as database:
        if screen.format == "text":
            screen.show(render_progress(record))
        job = _make_job(database, asked, no_rollback=options.no_rollback)
        pace = _make_pace(options, asked)
        person.how = describe_pace(pace)
        with watched(place, pace.behind) as followers:
            manner = Manner(ask_first=asks, recount=asked.recount, pace=pace, followers=followers)
            result = ResumedRun(database, job, manner, person, record, anew=options.anew).run()
        result = look_afterwards(database, result, analyze=asked.then_analyze)
    back = make_way_back(options, place, result) if record.facts["archive"] else ""
    onward = make_way_back(options, place, result, "resume")
    tell(screen, "resume", result, back, person, onward)
    return result.status


def _read_asked(record: RunRecord) -> Asked:
    asked = read_asked(record)
    if isinstance(asked, RunOptions):
        # The days that it meant then, and not what they would be today.
        values = record.facts.get("parameters", {})
        return asked.but(parameters=tuple(f"{name}={value}" for name, value in values.items()))
    return asked


def _make_job(database: Database, asked: Asked, *, no_rollback: bool) -> BatchJob:
    """What was asked for, without the list of keys, which are in the record. Rows were shown."""
    if isinstance(asked, RunOptions):
        return _make_step(database, asked, no_rollback=no_rollback)
    if isinstance(asked, DedupeOptions):
        return Merging(database, read_duplicates_request(database, asked, no_rollback=no_rollback))
    known = {"keys": (), "keys_from": None, "by": None, "all_rows": True, "sample": "0"}
    if isinstance(asked, ClearOptions):
        cleared = read_clear_request(database, asked.but(**known), no_rollback=no_rollback)
        return Clearing(database, cleared)
    return Deletion(database, read_request(database, asked.but(**known), no_rollback=no_rollback))


def _make_step(database: Database, asked: RunOptions, *, no_rollback: bool) -> BatchJob:
    """The step of a file, as the file is now: rows that it no longer matches are left."""
    chosen = _find_step(asked)
    (job,) = make_jobs(database, replace(chosen, no_rollback=no_rollback))
    job.seal = None  # it was sealed with the rows that are gone by now
    return job


def _find_step(asked: RunOptions) -> ChosenSteps:
    path = Path(asked.cleanup)
    cleanup = load_cleanup(path)
    steps = choose_steps(cleanup, asked.step)
    if len(steps) != 1:
        raise Refused(f"{path} has {len(steps)} steps now, of which one went in batches.")
    return ChosenSteps(path, cleanup, steps, read_values(cleanup, steps, asked.parameters, None))


def _find_size(asked: Asked) -> str | None:
    if isinstance(asked, RunOptions):
        size = _find_step(asked).steps[0].options.get("batch")
        return None if size is None else str(size)
    return asked.batch


def _make_pace(options: ResumeOptions, asked: Asked) -> Pace:
    """As it was asked for once, but for what is said now. Limits of that time do not count."""
    same = {name: getattr(asked, name) for name in ("hold", "pause", "behind", "even_if_changed")}
    same["batch"] = _find_size(asked)
    new = {name: getattr(options, name) for name in same}
    usual = ResumeOptions()
    changed = {name: value for name, value in new.items() if value != getattr(usual, name)}
    told = options.but(**{**same, **changed})
    found = read_pace(told, told.batch or "auto", datetime.now().astimezone())
    assert found
    return found
