"""The account of a run as text."""

from __future__ import annotations

from collections.abc import Iterator

from rich.console import RenderableType
from rich.text import Text

from yeldro.core.model.plural import count
from yeldro.core.run.batching import Progress
from yeldro.core.run.outcome import Outcome, RunResult
from yeldro.core.run.tally import Line, Tally
from yeldro.report.command_line import CommandLine
from yeldro.report.grids import render_grid
from yeldro.words.tell import tell

_STYLES = {
    Outcome.COMMITTED: "bold green",
    Outcome.REHEARSED: "bold",
    Outcome.NOTHING_MATCHED: "bold",
    Outcome.NOTHING_TO_RESTORE: "bold",
}

# What triggers did, as it is shown, and its name in a line of a tally.
BY_TRIGGERS = {
    "by triggers": "inserted_by_triggers",
    "gone by triggers": "deleted_by_triggers",
    "changed by triggers": "changed_by_triggers",
}


def render_tallies(result: RunResult) -> Iterator[RenderableType]:
    """That of each step, where there are several, then that of all."""
    several = sum(step.tally is not None for step in result.steps) > 1
    for number, one in enumerate(result.steps, 1):
        if one.tally and several:
            yield from render_tally(one.tally, f"Step {number}, {one.preview.step}")
        elif not one.tally:
            yield Text(f"\nStep {number}, {one.preview.step}: nothing matched", style="dim")
    if result.tally:
        yield from render_tally(result.tally, "All steps" if several else "Tally")


def render_tally(tally: Tally, title: str = "Tally") -> Iterator[RenderableType]:
    """One line a table; columns in which nothing happened are left out."""
    optional = {
        "deleted": "deleted",
        "detached": "detached",
        "moved": "moved",
        "filled": "filled",
        "cleared": "cleared",
        "restored": "restored",
        **BY_TRIGGERS,
    }
    used = [
        title
        for title, name in optional.items()
        if any(getattr(line, name) for line in tally.lines)
    ]

    def cells(line: Line) -> list[object]:
        more = [_count(getattr(line, optional[title])) for title in used]
        verdict = Text("yes", style="green") if line.balanced else Text("no", style="bold red")
        proved = "by the engine" if line.by_engine else "counted"
        found = [*more, line.after, verdict, Text(proved, style="dim")]
        return [line.table.label, line.before, _count(line.expected), *found]

    numbers = ("before", "expected", *used, "after")
    yield Text(f"\n{title}", style="bold")
    titles = ("table", *numbers, "balanced", "proof")
    yield render_grid(titles, [cells(line) for line in tally.lines], right=numbers)
    if tally.elsewhere:
        more = count(tally.elsewhere, "more change")
        yield Text(f"  Triggers made {more}, which the database does not tell by table.")
    if tally.altered and tally.allowed:
        yield Text(f"  Triggers changed more columns of the rows in {', '.join(tally.altered)}.")


def _count(number: int) -> Text:
    return Text(f"{number:,}", style="" if number else "dim")


def _describe_progress(outcome: Outcome, progress: Progress) -> str:
    batches, rows = count(progress.batches, "batch"), f"{progress.done:,} of {progress.total:,}"
    if outcome is Outcome.COMMITTED:
        some = progress.batches > 0
        return (
            f"Committed in {batches}."
            if some
            else f"None of the {progress.what}s matches any more."
        )
    if not progress.batches:
        return "Stopped before the first batch; nothing was changed."
    what = f"{progress.what}{'' if progress.total == 1 else 's'}"
    return f"Stopped after {batches}: {rows} {what} are done, the others are as they were."


def _describe_outcome(result: RunResult) -> str:
    found = result.preview
    if result.progress:
        return _describe_progress(result.outcome, result.progress)
    if result.outcome is Outcome.NOTHING_MATCHED and found and found.duplicates:
        return "No two rows are the same; there is nothing to remove."
    if result.outcome is Outcome.NOTHING_MATCHED and found and found.reach.matched:
        return "All rows that match are clear already; there is nothing to remove."
    return result.outcome.sentence


def render_ending(result: RunResult, back: str, onward: str = "") -> Iterator[RenderableType]:
    """How it ended; `back` is the line that would take it back, "" where nothing would, `onward`
    the one that goes on with a run in batches."""
    yield Text(f"\n{_describe_outcome(result)}", style=_STYLES.get(result.outcome, "bold"))
    if result.progress and result.progress.left:
        left = count(result.progress.left, result.progress.what)
        yield Text(f"  {left} did not match any more when their turn came, and were left.")
    done = result.progress.batches if result.progress else 0
    if result.outcome is Outcome.STOPPED and done and onward:
        yield Text("  To go on:", style="dim")
        yield CommandLine(onward, "dim", 4)
    if (result.outcome is Outcome.COMMITTED or done) and back:
        yield Text("  To take it back:", style="dim")
        yield CommandLine(back, "dim", 4)
    for found in result.afterwards:
        yield Text(f"  {tell(found)}", style="dim")
