"""What `yeldro preview --forecast` does."""

from __future__ import annotations

from yeldro.cli.connect import opened
from yeldro.cli.lifting import find_next
from yeldro.cli.place import find_database, find_records_folder
from yeldro.cli.request import as_previewed, read_request
from yeldro.cli.screen import Screen
from yeldro.core.clearing.request import ClearRequest
from yeldro.core.database.abilities import Mode
from yeldro.core.run.batching import Pace
from yeldro.errors import Refused, UsageError
from yeldro.options import PreviewOptions
from yeldro.report.documents import make_preview
from yeldro.report.forecast import make_forecast, render_forecast
from yeldro.report.preview import render_preview
from yeldro.usecases.forecast import look_and_forecast
from yeldro.usecases.steps import BatchJob, Clearing, Deletion
from yeldro.words.tell import tell, voice_of


def preview_with_forecast(options: PreviewOptions, screen: Screen) -> int:
    """Returns the exit status."""
    if screen.format == "csv":
        raise UsageError("--forecast writes no rows: it excludes --format csv.")
    folder = find_records_folder(None)
    with opened(
        find_database(options.db), Mode.WRITE, options.wait, options.allow_function
    ) as database:
        request = read_request(database, as_previewed(options))
        job: BatchJob = (
            Clearing(database, request)
            if isinstance(request, ClearRequest)
            else Deletion(database, request)
        )
        shown, found = look_and_forecast(database, job, folder, Pace().hold)
        if screen.format == "json":
            screen.write_document({**make_preview(shown), "forecast": make_forecast(found)})
        else:
            screen.show(render_preview(shown, find_next(database, options, shown)))
            screen.show(render_forecast(found))
            for reason in shown.refusals[:1]:
                screen.note(f"\nWould be stopped: {tell(reason, voice_of(shown))}")
    return Refused.status if shown.refusals else 0
