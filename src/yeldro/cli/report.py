"""What `yeldro report` does."""

from __future__ import annotations

import sys
from pathlib import Path

from msgspec.structs import replace

from yeldro.cli.cleanup_jobs import ChosenSteps, ask_value, make_jobs, open_for
from yeldro.cli.drawing import check_new
from yeldro.cli.place import list_records_folders
from yeldro.cli.request import quote_word
from yeldro.cli.screen import Screen
from yeldro.cli.steps import read_values
from yeldro.core.database.abilities import Mode
from yeldro.core.reach.reach import root_keys
from yeldro.core.run.by_time import count_by_time, find_compared
from yeldro.core.survey.map import make_map
from yeldro.core.survey.picture import make_picture
from yeldro.errors import UsageError
from yeldro.options import ReportOptions
from yeldro.report.cleanup_page import make_cleanup_page
from yeldro.report.page import Page, render_page
from yeldro.report.run_page import make_run_page
from yeldro.store.archive_sample import read_sample
from yeldro.store.cleanup_file import load_cleanup
from yeldro.store.disk import write_private
from yeldro.store.find_records import find_record_in
from yeldro.store.run_record import RunRecord, now
from yeldro.usecases import run as running

# Rows of the archive that are shown.
_SAMPLE = 10


def write_report(options: ReportOptions) -> int:
    """Write the page and say where it is."""
    is_file = options.subject.endswith(".toml")
    page = _report_cleanup(options) if is_file else _report_run(options)
    name = Path(options.subject).stem if is_file else page.title.removeprefix("Run ")
    path = Path(options.output or f"{name}.html")
    check_new(path)
    try:
        write_private(path, lambda file: file.write(render_page(page)))
    except OSError as error:
        raise UsageError(f"{path} cannot be written: {error.strerror}.") from error
    Screen(options.format).note(f"Written: {path}")
    return 0


def _report_run(options: ReportOptions) -> Page:
    folders = list_records_folders(options.archive, options.db)
    record = find_record_in(folders, options.subject)
    table = record.facts["table"]
    sample = read_sample(record.archive, table, _SAMPLE) if record.size else None
    return make_run_page(record, sample, _read_statements(record))


def _read_statements(record: RunRecord) -> list[str]:
    path = record.folder / "run.sql"
    return path.read_text(encoding="utf-8", errors="replace").splitlines() if path.exists() else []


def _report_cleanup(options: ReportOptions) -> Page:
    path = Path(options.subject)
    cleanup = load_cleanup(path)
    ask = ask_value if sys.stdin.isatty() else None
    values = read_values(cleanup, cleanup.steps, options.parameters, ask)
    chosen = ChosenSteps(path, cleanup, cleanup.steps, values)
    found = []
    with open_for(chosen, options, Mode.READ) as database:
        jobs = make_jobs(database, chosen)
        for preview in running.look_ahead(database, jobs, chosen.limits):
            root, reach = preview.selection.table, preview.reach
            mapped = make_map(database.schema, root, reach)
            if not preview.duplicates and (name := find_compared(preview.selection)):
                by_time = count_by_time(database, root_keys(reach), name)
                preview = replace(preview, by_time=by_time)
            found.append((preview, make_picture(mapped, {}, reach.stops, [root])))
    line = ["yeldro", "run", path.name]
    line += [word for given in options.parameters for word in ("-p", given)]
    return make_cleanup_page(path.name, cleanup, found, now(), " ".join(map(quote_word, line)))
