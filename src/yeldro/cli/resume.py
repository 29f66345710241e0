"""What `yeldro resume` does."""

from __future__ import annotations

from datetime import datetime

from yeldro.cli.asked_line import read_line
from yeldro.cli.connect import opened
from yeldro.cli.consent import check_consent, find_protection
from yeldro.cli.pace import read_pace
from yeldro.cli.person import Person
from yeldro.cli.place import confirm_place, list_records_folders
from yeldro.cli.records import find_place_of
from yeldro.cli.request import (
    full_address,
    read_clear_request,
    read_duplicates_request,
    read_request,
)
from yeldro.cli.run_command import make_way_back, tell
from yeldro.cli.screen import Screen
from yeldro.core.database.abilities import Mode
from yeldro.core.database.connection import Database
from yeldro.core.run.batching import Pace
from yeldro.errors import Refused, UsageError
from yeldro.options import ClearOptions, DedupeOptions, DeletionOptions, ResumeOptions
from yeldro.report.history import render_progress
from yeldro.store.find_records import find_record_in
from yeldro.store.run_record import RunRecord
from yeldro.usecases.resume import ResumedRun, check_resumable
from yeldro.usecases.run import Manner
from yeldro.usecases.steps import BatchJob, Clearing, Deletion, Merging


def resume_run(options: ResumeOptions) -> int:
    """Settle the last batch, show what is done and what is left, ask, go on."""
    screen = Screen(options.format)
    record = find_record_in(list_records_folders(options.archive, options.db), options.run)
    asks = check_consent(options, "go on")
    place = confirm_place(find_place_of(record, options.db), asks=asks)
    if full_address(place.address) != record.facts["address"]:
        raise UsageError(f"The run took place in {record.facts['address']}.")
    protected = find_protection(options, place, asks=asks)
    person = Person(screen, place.title, "", protected)
    asked = _read_asked(record)
    with opened(place, Mode.WRITE, options.wait, asked.allow_function) as database:
        check_resumable(database, record)
        if screen.format == "text":
            screen.show(render_progress(record))
        job = _make_job(database, asked, no_rollback=options.no_rollback)
        pace = _make_pace(options, asked)
        manner = Manner(ask_first=asks, recount=asked.recount)
        result = ResumedRun(database, job, pace, manner, person, record).run()
    back = "" if asked.no_archive else make_way_back(asked, place, result)
    onward = make_way_back(asked, place, result, "resume")
    tell(screen, "resume", result, back, person, onward)
    return result.status


Asked = DeletionOptions | ClearOptions | DedupeOptions


def _read_asked(record: RunRecord) -> Asked:
    name, asked = read_line(record.facts["asked"])
    if not isinstance(asked, Asked):
        raise Refused(f"yeldro {name} does not go in batches.")
    return asked


def _make_job(database: Database, asked: Asked, *, no_rollback: bool) -> BatchJob:
    """What was asked for, without the list of keys: these are in the record."""
    if isinstance(asked, DedupeOptions):
        return Merging(database, read_duplicates_request(database, asked, no_rollback=no_rollback))
    known = {"keys": (), "keys_from": None, "by": None, "all_rows": True}
    if isinstance(asked, ClearOptions):
        cleared = read_clear_request(database, asked.but(**known), no_rollback=no_rollback)
        return Clearing(database, cleared)
    return Deletion(database, read_request(database, asked.but(**known), no_rollback=no_rollback))


def _make_pace(options: ResumeOptions, asked: Asked) -> Pace:
    """As it was asked for once, but for what is said now. Limits of that time do not count."""
    same = {name: getattr(asked, name) for name in ("batch", "hold", "pause", "even_if_changed")}
    new = {name: getattr(options, name) for name in same}
    usual = ResumeOptions()
    changed = {name: value for name, value in new.items() if value != getattr(usual, name)}
    found = read_pace(options.but(**{**same, **changed}), datetime.now().astimezone())
    assert found
    return found
