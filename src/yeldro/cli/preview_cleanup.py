"""What `yeldro preview FILE.toml` does."""

from __future__ import annotations

import sys
from collections.abc import Iterator, Mapping
from functools import partial
from pathlib import Path
from typing import Any

from yeldro.cli.cleanup_jobs import ask_value, make_jobs, open_for
from yeldro.cli.person import show_step
from yeldro.cli.saving import seal_cleanup
from yeldro.cli.screen import Screen
from yeldro.cli.steps import (
    read_limits,
    read_values,
)
from yeldro.core.cleanup.cleanup import Cleanup
from yeldro.core.database.connection import Database, Mode
from yeldro.core.run.preview import Preview
from yeldro.errors import Refused, UsageError
from yeldro.report.documents import make_preview
from yeldro.report.duplicates import make_duplicates
from yeldro.report.seal import make_changes, render_changes
from yeldro.store.cleanup_file import load_cleanup
from yeldro.store.seal_file import find_difference
from yeldro.usecases import run as running


def preview_cleanup(options: dict[str, Any]) -> int:
    """Show every step of a cleanup file as the data is now, and seal it if that is asked for. Returns the status."""
    path = Path(options["table"])
    cleanup = load_cleanup(path)
    screen = Screen(options["format"])
    if screen.format == "csv":
        raise UsageError("A cleanup file is shown as text or as JSON.")
    asks = screen.format == "text" and sys.stdin.isatty()
    values = read_values(cleanup, cleanup.steps, options["parameters"], ask_value if asks else None)
    documents, status, settled = [], 0, False
    with open_for(path, cleanup, options, Mode.READ) as database:
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
