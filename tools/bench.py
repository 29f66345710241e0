"""Measured figures, each as a ratio to a baseline of the same run. Usage: ./dev bench [NAME ...]

They are kept in docs/bench.json and drawn in docs/screenshots/bench.png. YELDRO_BENCH_ROWS makes
the tables smaller, and then nothing is kept.
"""

import os
import sys
from collections.abc import Callable

from tools import (
    bench_archive,
    bench_batches,
    bench_duplicates,
    bench_forecast,
    bench_large,
    bench_shapes,
    bench_startup,
    bench_tree,
)
from tools.figures import Figures

BENCHES: dict[str, tuple[Callable[..., bool], int]] = {
    "startup": (bench_startup.bench_startup, 0),
    "tree": (bench_tree.bench_tree, bench_tree.PARENTS),
    "unindexed": (bench_tree.bench_unindexed, bench_tree.PARENTS),
    "growth": (bench_tree.bench_growth, bench_tree.PARENTS),
    "archive": (bench_archive.bench_archive, bench_tree.PARENTS),
    "duplicates": (bench_duplicates.bench_duplicates, bench_duplicates.ROWS),
    "catalogue": (bench_tree.bench_catalogue, 0),
    "forecast": (bench_forecast.bench_forecast, bench_tree.PARENTS),
    "shapes": (bench_shapes.bench_shapes, bench_shapes.ROWS),
    "batches": (bench_batches.bench_batches, bench_batches.ROWS),
    "large": (bench_large.bench_large, bench_large.LARGE),
}
# Takes an hour, so it is named.
_ON_DEMAND = ("large",)


def main() -> None:
    names = sys.argv[1:] or [name for name in BENCHES if name not in _ON_DEMAND]
    unknown = [name for name in names if name not in BENCHES]
    if unknown:
        sys.exit(f"unknown bench {unknown[0]}; there are: {', '.join(BENCHES)}")
    asked = os.environ.get("YELDRO_BENCH_ROWS")
    figures, met = Figures(), True
    for name in names:
        bench, rows = BENCHES[name]
        met &= bench(figures, int(asked or rows)) if rows else bench(figures)
    if not asked:
        figures.keep()
    if not met:
        sys.exit(1)


if __name__ == "__main__":
    main()
