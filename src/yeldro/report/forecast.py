"""What a run would cost, as text."""

from __future__ import annotations

from collections.abc import Iterator

from rich.console import RenderableType
from rich.text import Text

from yeldro.core.model.fact import fact
from yeldro.core.model.plural import count, size_text
from yeldro.core.run.forecast import Forecast
from yeldro.report.grids import render_grid
from yeldro.report.json_text import Document
from yeldro.words.tell import tell


def render_forecast(found: Forecast | None) -> Iterator[RenderableType]:
    if found is None:
        yield Text(f"\n{tell(fact('forecast.none'))}")
        return
    yield Text(
        f"\nForecast, from {count(found.sampled, 'row')} that were rehearsed and rolled back",
        style="bold",
    )
    lines = [("in one transaction", f"{_range(found.seconds)}, with its locks")]
    if found.batches > 1:
        batch = f"--batch {found.batch}"
        lines.append((batch, f"{_range(found.in_batches)}, {found.hold:g} s each"))
    if found.log is not None:
        lines.append(("log", f"about {size_text(found.log) or 'nothing'}"))
    if found.copied is not None:
        free = f", {size_text(found.free)} are free" if found.free else ""
        lines.append(("copy", f"about {size_text(found.copied) or 'nothing'}{free}"))
    yield render_grid(("what", "it takes"), lines)
    yield Text(f"  {tell(fact(f'forecast.locks-{found.dialect}'))}")
    if found.free is not None and found.copied is not None and found.copied > found.free:
        full = fact("forecast.full", free=size_text(found.free), folder=found.folder)
        yield Text(f"  {tell(full)}", style="bold red")


def _range(seconds: tuple[float, float]) -> str:
    """`0.2 to 0.4 s`, `2 to 5 min`, `1.5 to 3 h`."""
    least, most = seconds
    for size, unit in ((3600, "h"), (60, "min")):
        if most >= 2 * size:
            return f"{least / size:.2g} to {most / size:.2g} {unit}"
    return f"{least:.2g} to {most:.2g} s"


def make_forecast(found: Forecast | None) -> Document | None:
    if found is None:
        return None
    return {
        "rows": found.rows,
        "sampled": found.sampled,
        "seconds": [round(one, 3) for one in found.seconds],
        "log_bytes": found.log,
        "copy_bytes": found.copied,
        "free_bytes": found.free,
        "hold": found.hold,
        "batch": found.batch,
        "batches": found.batches,
        "seconds_in_batches": [round(one, 3) for one in found.in_batches],
    }
