"""What `yeldro preview FILE.toml` does."""

from __future__ import annotations

import sys
from collections.abc import Iterator, Sequence
from functools import partial
from pathlib import Path

from yeldro.cli.cleanup_jobs import ChosenSteps, ask_value, make_jobs, open_for
from yeldro.cli.person import show_step
from yeldro.cli.saving import seal_cleanup
from yeldro.cli.screen import Screen
from yeldro.cli.steps import choose_steps, read_values
from yeldro.core.database.abilities import Mode
from yeldro.core.database.connection import Database
from yeldro.core.run.preview import Preview
from yeldro.errors import Refused, UsageError
from yeldro.options import PreviewOptions
from yeldro.report.documents import make_preview
from yeldro.report.duplicates import make_duplicates
from yeldro.report.json_text import Document
from yeldro.report.seal import make_changes, render_changes
from yeldro.store.cleanup_file import load_cleanup
from yeldro.store.seal_file import find_difference
from yeldro.usecases import run as running
from yeldro.words.tell import tell, voice_of


def preview_cleanup(options: PreviewOptions, names: Sequence[str] = ()) -> int:
    """Show the steps of a cleanup file as the data is now, all or those that are named, and seal it
    if that is asked for. Returns the status."""
    path = Path(options.table)
    cleanup = load_cleanup(path)
    screen = Screen(options.format)
    if screen.format == "csv":
        raise UsageError("A cleanup file is shown as text or as JSON.")
    asks = screen.format == "text" and sys.stdin.isatty()
    steps = choose_steps(cleanup, names)
    ask = ask_value if asks else None
    values = read_values(cleanup, steps, options.parameters, ask, anew=options.seal)
    chosen = ChosenSteps(path, cleanup, steps, values)
    documents: list[Document] = []
    status, settled = 0, False
    with open_for(chosen, options, Mode.READ) as database:
        look = seal_cleanup if options.seal else _look
        for found in look(database, chosen):
            documents.append(_make_document(found))
            if screen.format == "text":
                _show(
                    screen,
                    found,
                    len(documents),
                    options,
                    "As the data is now" if settled else "Would be stopped",
                )
            if found.difference or (found.refusals and not settled):
                status = Refused.status
            # Later steps see what the first one that finds rows leaves, and a preview changes
            # nothing.
            settled = settled or bool(found.reach.touched or found.refusals)
    if screen.format == "json":
        screen.write_document({"kind": "preview", "steps": documents})
    elif options.seal:
        screen.note(f"\nSealed: {path} runs only while it finds exactly these rows.")
    return status


def _look(database: Database, chosen: ChosenSteps) -> Iterator[Preview]:
    jobs = make_jobs(database, chosen)
    return running.look_ahead(database, jobs, chosen.limits, partial(find_difference, chosen.path))


def _make_document(found: Preview) -> Document:
    document = make_duplicates(found.duplicates, found) if found.duplicates else make_preview(found)
    return {"step": found.step, **document, **make_changes(found)}


def _show(
    screen: Screen, found: Preview, number: int, options: PreviewOptions, verdict: str
) -> None:
    show_step(screen, found, number)
    if options.show_changes:
        screen.show(render_changes(found))
    for reason in found.refusals[:1]:
        screen.note(f"\n{verdict}: {tell(reason, voice_of(found))}")
