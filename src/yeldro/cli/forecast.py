"""What `yeldro preview --forecast` does, and `yeldro duplicates --forecast`."""

from __future__ import annotations

from yeldro.cli.connect import opened
from yeldro.cli.lifting import find_next, find_removal
from yeldro.cli.place import find_database, find_records_folder
from yeldro.cli.request import as_previewed, read_duplicates_request, read_request
from yeldro.cli.screen import Screen
from yeldro.core.clearing.request import ClearRequest
from yeldro.core.database.abilities import Mode
from yeldro.core.run.batching import Pace
from yeldro.errors import Refused, UsageError
from yeldro.options import DuplicatesOptions, PreviewOptions
from yeldro.report.documents import make_preview
from yeldro.report.duplicates import make_duplicates, render_merging
from yeldro.report.forecast import make_forecast, render_forecast
from yeldro.report.preview import render_preview
from yeldro.usecases.forecast import look_and_forecast
from yeldro.usecases.steps import BatchJob, Clearing, Deletion, Merging
from yeldro.words.tell import tell, voice_of


def preview_with_forecast(options: PreviewOptions, screen: Screen) -> int:
    """Returns the exit status."""
    _check_format(screen)
    with opened(
        find_database(options.db), Mode.WRITE, options.wait, options.allow_function
    ) as database:
        request = read_request(database, as_previewed(options))
        job: BatchJob = (
            Clearing(database, request)
            if isinstance(request, ClearRequest)
            else Deletion(database, request)
        )
        shown, found = look_and_forecast(database, job, find_records_folder(None), Pace().hold)
        if screen.format == "json":
            screen.write_document({**make_preview(shown), "forecast": make_forecast(found)})
        else:
            screen.show(render_preview(shown, find_next(database, options, shown)))
            if shown.reach.touched:
                screen.show(render_forecast(found))
            for reason in shown.refusals[:1]:
                screen.note(f"\nWould be stopped: {tell(reason, voice_of(shown))}")
    return Refused.status if shown.refusals else 0


def duplicates_with_forecast(options: DuplicatesOptions, screen: Screen) -> int:
    """Returns the exit status."""
    _check_format(screen)
    if options.same is None or not options.keep or options.decisions:
        raise UsageError("--forecast goes with --same and --keep, and without --decisions.")
    with opened(
        find_database(options.db), Mode.WRITE, options.wait, options.allow_function
    ) as database:
        job = Merging(database, read_duplicates_request(database, options))
        shown, found = look_and_forecast(database, job, find_records_folder(None), Pace().hold)
        if screen.format == "json":
            assert shown.duplicates
            document = make_duplicates(shown.duplicates, shown)
            screen.write_document({**document, "forecast": make_forecast(found)})
        else:
            screen.show(render_merging(shown, find_removal(options, shown)))
            if shown.reach.touched:
                screen.show(render_forecast(found))
    if shown.refusals:
        screen.tell(tell(shown.refusals[0], voice_of(shown)), "")
    return Refused.status if shown.refusals else 0


def _check_format(screen: Screen) -> None:
    if screen.format == "csv":
        raise UsageError("--forecast writes no rows: it excludes --format csv.")
