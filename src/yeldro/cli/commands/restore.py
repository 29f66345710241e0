"""yeldro restore"""

from __future__ import annotations

import sys

import click

from yeldro.cli.options import command_of, takes
from yeldro.options import RestoreOptions


@command_of("restore", RestoreOptions)
@click.argument("run")
@takes(RestoreOptions)
def command(options: RestoreOptions) -> int:
    """Put the archived rows of RUN back, parents first, exactly as they were, in one transaction,
    or, with --batch, a run in batches in many.

    RUN is the name of a run record, the beginning of it, `last`, or the path of its folder. Rows
    that are there unchanged are skipped, so it can be run twice. Nothing else is overwritten.
    """
    from datetime import datetime

    from yeldro.cli.connect import opened, watched
    from yeldro.cli.consent import check_consent, find_protection
    from yeldro.cli.pace import describe_pace, read_pace
    from yeldro.cli.person import Person
    from yeldro.cli.place import confirm_place
    from yeldro.cli.records import check_place, find_place_of, find_run, took_place_in
    from yeldro.cli.run_command import make_way_back, tell
    from yeldro.cli.screen import Screen
    from yeldro.core.database.abilities import Mode
    from yeldro.errors import UsageError
    from yeldro.usecases import restore as restoring

    screen = Screen(options.format)
    record = find_run(options, options.db, options.run)
    asks = check_consent(options, "restore")
    if options.into and options.db:
        raise UsageError("--into excludes --db.")
    can_ask = asks or (sys.stdin.isatty() and not options.yes)
    place = confirm_place(find_place_of(record, options.into or options.db), asks=can_ask)
    protected = find_protection(options, place, asks=asks)
    person = Person(screen, place.title, "", protected, "read")
    pace = read_pace(options, options.batch, datetime.now().astimezone())
    person.how = describe_pace(pace)
    with (
        watched(place, options.behind) as followers,
        opened(place, Mode.WRITE, options.wait) as database,
    ):
        if not options.into:
            check_place(place, database, record, hint="--into DB restores into another one.")
        request = restoring.RestoreRequest(
            options.tables,
            options.keys,
            options.differing == "keep",
            options.rehearse,
            asks,
            options.no_rollback,
            "" if took_place_in(place, database, record) else database.name,
            pace,
            followers,
            options.even_if_altered,
            options.leave_out,
            options.allow_trigger,
        )
        result = restoring.restore(database, record, request, person)
    onward = make_way_back(options, place, result)
    tell(screen, "restore", result, "", person, f"{onward} --batch {options.batch}")
    return result.status
