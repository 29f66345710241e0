"""Whether run records are as their runs left them: as text, as CSV and as JSON."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from pathlib import Path

from rich.console import RenderableType
from rich.text import Text

from yeldro.core.model.plural import count
from yeldro.report.grids import render_grid
from yeldro.report.json_text import Document
from yeldro.report.spreadsheet import render_line
from yeldro.store.fingerprints import Verdict


def render_verdicts(found: Sequence[Verdict], folder: Path) -> Iterator[RenderableType]:
    faulty = sum(bool(one.faults) for one in found)
    if not found:
        yield Text(f"No run has left a record in {folder}.")
        return
    what = count(len(found), "record")
    if faulty:
        yield Text(f"{what} in {folder}: {faulty:,} not as its run left it", style="bold red")
    else:
        yield Text(f"{what} in {folder}: nothing was changed", style="bold")
    yield ""
    rows = [(one.record.name, _describe(one), _find_mark(one)[:16]) for one in found]
    yield render_grid(("run", "its record", "SHA-256 begins"), rows)


def render_verdict_lines(found: Sequence[Verdict]) -> Iterator[str]:
    yield render_line(("run", "marked", "faults", "sha256"))
    for one in found:
        yield render_line([one.record.name, one.marked, "; ".join(one.faults), _find_mark(one)])


def make_verdicts(found: Sequence[Verdict]) -> Document:
    return {
        "kind": "verify",
        "records": [
            {
                "run": one.record.name,
                "marked": one.marked,
                "faults": list(one.faults),
                "sha256": _find_mark(one) or None,
            }
            for one in found
        ],
    }


def _describe(one: Verdict) -> Text:
    if one.faults:
        return Text("\n".join(one.faults), style="bold red")
    return Text("as its run left it") if one.marked else Text("nothing to tell by", style="dim")


def _find_mark(one: Verdict) -> str:
    mark = one.record.facts.get("fingerprints")
    return mark.get("record", "") if mark else ""
