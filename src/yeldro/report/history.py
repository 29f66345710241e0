"""Run records as text, as CSV and as JSON."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any

from rich.console import RenderableType
from rich.text import Text

from yeldro.core.model.plural import count, size_text
from yeldro.report.cells import cut
from yeldro.report.grids import render_grid
from yeldro.report.json_text import Document
from yeldro.report.spreadsheet import render_line
from yeldro.report.tally import BY_TRIGGERS
from yeldro.store.batch_file import BATCHES, BatchFile
from yeldro.store.run_facts import PartFacts, RunFacts
from yeldro.store.run_record import RunRecord

_STYLES = {"committed": "green", "in-doubt": "bold red", "running": "bold", "rolled-back": "dim"}
_FIELDS = (
    "run",
    "began",
    "kind",
    "table",
    "database",
    "by",
    "outcome",
    "rows",
    "restored",
    "archive_bytes",
)


_NUMBERS = (
    "before",
    "expected",
    "deleted",
    "detached",
    "moved",
    "filled",
    "cleared",
    *BY_TRIGGERS.values(),
    "after",
)


def _describe(record: RunRecord) -> dict[str, Any]:
    facts = record.facts
    return {
        "run": record.name,
        "began": facts["began"],
        "kind": facts["kind"],
        "table": facts["table"],
        "database": facts["database"],
        "by": facts["by"],
        "outcome": record.outcome,
        "rows": _count_rows(record),
        "restored": record.restored or None,
        "archive_bytes": record.size,
    }


def _count_rows(record: RunRecord) -> int:
    """How many rows it touched, as far as it has come."""
    if "batches" in record.facts:
        return sum(one["rows"] for one in BatchFile(record.folder / BATCHES).committed())
    return sum(part["rows"] for part in record.facts["reach"]) if _may_last(record) else 0


def _may_last(record: RunRecord) -> bool:
    """Whether what the run did stands in the database, as far as anybody knows."""
    return record.outcome in ("committed", "in-doubt", "running")


def make_history(records: Sequence[RunRecord]) -> Document:
    runs = [
        {**record.facts, **_describe(record), "folder": str(record.folder)} for record in records
    ]
    return {"kind": "history", "runs": runs}


def render_history_lines(records: Sequence[RunRecord]) -> Iterator[str]:
    yield render_line(_FIELDS)
    for record in records:
        yield render_line(list(_describe(record).values()))


def render_history(records: Sequence[RunRecord], folder: Path) -> Iterator[RenderableType]:
    if not records:
        yield Text(f"No run has left a record in {folder}.")
        return
    yield Text(f"{count(len(records), 'run')} in {folder}", style="bold")
    yield ""
    titles = ("run", "began", "database", "what", "asked", "outcome", "rows", "restored", "archive")
    right = ("rows", "archive")
    yield render_grid(titles, [_cells(record) for record in records], right, in_blocks=True)


def render_progress(record: RunRecord) -> Iterator[RenderableType]:
    """How far a run in batches has come, before it goes on."""
    yield Text(f"{record.name}: {record.facts['asked']}", style="bold")
    yield Text(f"  done  {_describe_batches(record)}\n")


def _describe_batches(record: RunRecord) -> str:
    done = BatchFile(record.folder / BATCHES).committed()
    facts, taken = record.facts["batches"], done[-1]["last"] if done else 0
    chosen = count(facts["total"], f"chosen {facts['what']}")
    return f"{count(len(done), 'batch')}, {taken:,} of {chosen}"


def _cells(record: RunRecord) -> list[object]:
    one = _describe(record)
    return [
        one["run"],
        one["began"][:16].replace("T", " "),
        one["database"],
        f"{one['kind']} {one['table']}",
        cut(_find_asked(record.facts)),
        Text(one["outcome"], style=_STYLES.get(one["outcome"], "")),
        one["rows"],
        one["restored"] or "",
        size_text(record.size),
    ]


def _find_asked(facts: RunFacts) -> str:
    """What came after the table, or the file, in the command: the condition, most of all."""
    rest = facts["asked"].partition(f"yeldro {facts['kind']} ")[2]
    *_, options = rest.partition(" ")
    return re.sub(r"^--db \S+ ?", "", options)


def render_run(record: RunRecord) -> Iterator[RenderableType]:
    """The whole account of one run."""
    facts = record.facts
    outcome = Text(record.outcome, style=_STYLES.get(record.outcome, ""))
    yield Text.assemble("Run ", (record.name, "bold"), ", ", outcome)
    pairs = [(name, value) for name, value in list_pairs(record) if value]
    width = max(len(name) for name, _ in pairs)
    for name, value in pairs:
        yield Text(f"  {name:{width}}  {value}")
    yield Text("\nReach", style="bold")
    yield render_grid(*list_reach(facts), right=("rows",))
    if facts["tally"]:
        yield Text("\nTally", style="bold")
        titles, rows = list_tally(facts)
        yield render_grid(titles, rows, right=titles[1:-2])
    if facts["cautions"]:
        yield Text("\nCautions", style="bold")
    for caution in facts["cautions"]:
        yield Text(f"  {caution}")


def list_pairs(record: RunRecord) -> Iterator[tuple[str, str]]:
    """What a record says, each under its name; "" for what there is not."""
    facts = record.facts
    yield "asked", facts["asked"]
    values = facts.get("parameters", {})
    yield "with", ", ".join(f"{name} = {value}" for name, value in values.items())
    yield "where", f"{facts['database']} ({facts['address']})"
    yield "by", facts["by"]
    yield "began", facts["began"]
    yield "ended", facts["ended"] or ""
    yield "reason", facts["reason"]
    yield "batches", _describe_batches(record) if "batches" in facts else ""
    yield "archive", f"{record.archive} ({size_text(record.size)})" if record.size else "none"
    yield "SHA-256", facts["fingerprints"].get("record", "") if "fingerprints" in facts else ""
    yield "left out", ", ".join(facts["left_out"])
    yield "copied to", facts["archive_table"] or ""
    yield "seconds", ", ".join(f"{name} {taken:g}" for name, taken in _list_seconds(facts))
    if gone := facts.get("gone"):
        told = (
            f"{gone['rows']:,} of {gone['of']:,} archived rows are gone from their tables, or clear"
        )
        yield "settled", told
    for one in facts["restored"]:
        into = f" into {one['into']}" if one["into"] else ""
        told = f"{one['when']} by {one['by']}{into}: {count(one['rows'], 'row')}, {one['outcome']}"
        yield "restored", told
        for name in one.get("dropped_indexes", ()):
            yield "dropped", f"the unique index {name}"
    for made in facts.get("made_indexes", ()):
        yield "added", f"the unique index {made['name']} of {made['table']}"


def _list_seconds(facts: RunFacts) -> list[tuple[str, float]]:
    taken = facts.get("seconds", {}).items()
    return [(name, seconds) for name, seconds in taken if isinstance(seconds, int | float)]


def list_reach(facts: RunFacts) -> tuple[list[str], list[list[object]]]:
    """Which rows were touched, by whatever brought them in: titles and lines."""
    with_steps = any(part.get("step") for part in facts["reach"])
    rows: list[list[object]] = []
    for part in facts["reach"]:
        through = ", ".join(part["via"]) or _name_cause(facts, part)
        row: list[object] = [part["table"], part["rows"], part["action"], through]
        rows.append([*row, part.get("step", "")] if with_steps else row)
    return ["table", "rows", "action", "through", *["step"] * with_steps], rows


def list_tally(facts: RunFacts) -> tuple[list[str], list[list[object]]]:
    """Titles and lines, numbers but for the first and the last two; where nothing happened there is
    no column."""
    lines: list[dict[str, Any]] = [{**line} for line in facts["tally"]]
    used = [name for name in _NUMBERS if any(line.get(name) for line in lines)]
    shown = {name: title for title, name in BY_TRIGGERS.items()}
    titles = [shown.get(name, name) for name in used]
    rows: list[list[object]] = []
    for line in lines:
        verdict = "yes" if line["balanced"] else "no"
        proof = "by the engine" if line.get("by_engine") else "counted"
        rows.append([line["table"], *(line.get(name, 0) for name in used), verdict, proof])
    return ["table", *titles, "balanced", "proof"], rows


def _name_cause(facts: RunFacts, part: PartFacts) -> str:
    if part["action"] == "fill":
        return "kept rows"
    return "surplus rows" if facts["kind"] == "dedupe" or part.get("surplus") else "the selection"
