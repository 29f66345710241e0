"""Run records as text, as CSV and as JSON."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

from rich.console import RenderableType
from rich.text import Text

from yeldro.report.documents import Document
from yeldro.report.grids import render_grid
from yeldro.report.spreadsheet import render_line
from yeldro.store.records import Facts, RunRecord

_STYLES = {"committed": "green", "in-doubt": "bold yellow", "running": "cyan", "rolled-back": "dim"}
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
        "rows": sum(part["rows"] for part in facts["reach"]),
        "restored": record.restored or None,
        "archive_bytes": record.size,
    }


def make_history(records: Sequence[RunRecord]) -> Document:
    runs = [
        {**record.facts, **_describe(record), "folder": str(record.folder)} for record in records
    ]
    return {"kind": "history", "runs": runs}


def render_history_lines(records: Sequence[RunRecord]) -> Iterator[str]:
    yield render_line(_FIELDS)
    for record in records:
        yield render_line(list(_describe(record).values()))


def render_history(records: Sequence[RunRecord]) -> Iterator[RenderableType]:
    if not records:
        yield Text("No run has left a record here.")
        return
    titles = ("run", "what", "where", "by", "outcome", "rows", "restored", "archive")
    right = ("rows", "archive")
    yield render_grid(titles, [_cells(record) for record in records], right)


def _cells(record: RunRecord) -> list[object]:
    one = _describe(record)
    return [
        one["run"],
        f"{one['kind']} {one['table']}",
        one["database"],
        one["by"],
        Text(one["outcome"], style=_STYLES.get(one["outcome"], "")),
        one["rows"],
        one["restored"] or "",
        _size(record.size),
    ]


def _size(size: int) -> str:
    if not size:
        return ""
    amount, unit = float(size), "B"
    for bigger in ("KiB", "MiB", "GiB"):
        if amount < 1024:
            break
        amount, unit = amount / 1024, bigger
    return f"{amount:.0f} {unit}" if unit == "B" else f"{amount:.1f} {unit}"


def render_run(record: RunRecord) -> Iterator[RenderableType]:
    """The whole account of one run."""
    facts = record.facts
    outcome = Text(record.outcome, style=_STYLES.get(record.outcome, ""))
    yield Text.assemble("Run ", (record.name, "bold"), ", ", outcome)
    pairs = [
        ("asked", facts["asked"]),
        ("where", f"{facts['database']} ({facts['address']})"),
        ("by", facts["by"]),
        ("began", facts["began"]),
        ("ended", facts["ended"] or ""),
        ("reason", facts["reason"]),
        ("archive", f"{record.archive} ({_size(record.size)})" if record.size else "none"),
        ("left out", ", ".join(facts["left_out"])),
        ("copied to", facts["archive_table"] or ""),
        (
            "seconds",
            ", ".join(
                f"{name} {taken:g}"
                for name, taken in facts.get("seconds", {}).items()
                if isinstance(taken, int | float)
            ),
        ),
    ]
    if gone := facts.get("gone"):
        pairs.append(
            (
                "settled",
                f"{gone['rows']:,} of {gone['of']:,} archived rows are gone from their tables",
            )
        )
    for one in facts["restored"]:
        into = f" into {one['into']}" if one["into"] else ""
        pairs.append(
            (
                "restored",
                f"{one['when']} by {one['by']}{into}: {one['rows']:,} rows, {one['outcome']}",
            )
        )
        pairs += [
            ("dropped", f"the unique index {name}") for name in one.get("dropped_indexes", ())
        ]
    pairs += [
        ("added", f"the unique index {one['name']} of {one['table']}")
        for one in facts.get("made_indexes", ())
    ]
    width = max(len(name) for name, _ in pairs)
    for name, value in pairs:
        if value:
            yield Text(f"  {name:{width}}  {value}")
    yield Text("\nReach", style="bold")
    steps = {part.get("step", "") for part in facts["reach"]} - {""}
    rows = [
        [
            part["table"],
            part["rows"],
            part["action"],
            ", ".join(part["via"]) or _chosen(facts, part),
        ]
        + [part.get("step", "")] * bool(steps)
        for part in facts["reach"]
    ]
    yield render_grid(
        ("table", "rows", "action", "through", *["step"] * bool(steps)), rows, right=("rows",)
    )
    if facts["tally"]:
        yield Text("\nTally", style="bold")
        numbers = (
            "before",
            "expected",
            "deleted",
            "detached",
            "moved",
            "filled",
            "inserted_by_triggers",
            "after",
        )
        used = [name for name in numbers if any(line[name] for line in facts["tally"])]
        titles = [name.replace("inserted_by_triggers", "by triggers") for name in used]
        lines = [
            [line["table"], *(line[name] for name in used), "yes" if line["balanced"] else "no"]
            for line in facts["tally"]
        ]
        yield render_grid(("table", *titles, "balanced"), lines, right=titles)
    if facts["cautions"]:
        yield Text("\nCautions", style="bold")
    for caution in facts["cautions"]:
        yield Text(f"  {caution}", style="yellow")


def _chosen(facts: Facts, part: Facts) -> str:
    if part["action"] == "fill":
        return "kept rows"
    return "surplus rows" if facts["kind"] == "dedupe" or part.get("surplus") else "the selection"
