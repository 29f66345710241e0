"""What a run would cost, worked out from samples that were rolled back."""

from __future__ import annotations

from collections.abc import Sequence
from statistics import median

from msgspec import Struct

# The truth lies between these multiples of what was worked out, most times: a sample finds other
# pages in memory than a whole run does.
_LOW, _HIGH = 0.7, 1.5


class Sample(Struct, frozen=True):
    """`rows` of the reach that were found in `looking` seconds, copied and deleted in `changing`
    ones, and rolled back. `log` and `copied` are bytes, None where nobody counts them."""

    rows: int
    looking: float
    changing: float
    log: int | None = None
    copied: int | None = None


class Forecast(Struct, frozen=True):
    """Of a run that touches `rows`: the least and the most `seconds` that it takes in one
    transaction, bytes of `log` and of the copy, how many are free where that goes, and how many
    rows a batch has that takes `hold` seconds, with how long all of them take. `folder` is where
    the copy goes."""

    rows: int
    sampled: int
    seconds: tuple[float, float]
    log: int | None
    copied: int | None
    free: int | None
    hold: float
    batch: int
    batches: int
    in_batches: tuple[float, float]
    dialect: str = ""
    folder: str = ""


def work_out(
    rows: int, looking: float, samples: Sequence[Sample], free: int | None, hold: float
) -> Forecast:
    """`looking` is how many seconds the first look at all `rows` took; `samples` are small and
    large ones."""
    start, each = _fit([(one.rows, one.changing) for one in samples])
    whole = looking + start + each * rows
    start, each = _fit([(one.rows, one.looking + one.changing) for one in samples])
    batch = max(1, min(rows, int((hold - start) / each) if each > 0 else rows))
    batches = -(-rows // batch)
    together = looking + batches * start + each * rows
    return Forecast(
        rows,
        max(one.rows for one in samples),
        (_LOW * whole, _HIGH * whole),
        _scale([(one.rows, one.log) for one in samples], rows),
        _scale([(one.rows, one.copied) for one in samples], rows),
        free,
        hold,
        batch,
        batches,
        (_LOW * together, _HIGH * together),
    )


def _fit(points: Sequence[tuple[int, float]]) -> tuple[float, float]:
    """What it takes at all, and for each row: by the quickest of the smallest ones and the median
    of the largest."""
    least, most = min(rows for rows, _ in points), max(rows for rows, _ in points)
    start = min(taken for rows, taken in points if rows == least)
    whole = median(taken for rows, taken in points if rows == most)
    if most == least:
        return 0.0, whole / max(1, most)
    each = max(0.0, whole - start) / (most - least)
    return start - min(start, each * least), each


def _scale(points: Sequence[tuple[int, int | None]], rows: int) -> int | None:
    known = [(sampled, float(found)) for sampled, found in points if found is not None]
    if not known:
        return None
    start, each = _fit(known)
    return int(start + each * rows)
