"""Measured figures, each as a ratio to a baseline of the same run. Usage: ./dev bench [NAME ...]"""

import os
import subprocess
import sys
import time
from collections.abc import Callable
from statistics import median

RUNS = 21


def measure(*commands: list[str]) -> list[float]:
    """The median time of each command in seconds, the commands taking turns so that noise falls on
    all alike."""
    times: list[list[float]] = [[] for _ in commands]
    for _ in range(RUNS):
        for command, taken in zip(commands, times, strict=True):
            start = time.perf_counter()
            subprocess.run(command, check=True, stdout=subprocess.DEVNULL)
            taken.append(time.perf_counter() - start)
    return [median(taken) for taken in times]


def report(what: str, ratio: float, bar: float, baseline: str) -> bool:
    """Write one figure beside its bar. Returns whether the bar is met."""
    verdict = "met" if ratio <= bar else "MISSED"
    sys.stdout.write(f"{what:32} {ratio:6.2f} x {baseline}  (bar {bar:g} x: {verdict})\n")
    return ratio <= bar


def bench_startup() -> bool:
    """Start-up against an interpreter that does nothing."""
    entry = [sys.executable, "-c", "from yeldro.__main__ import main; main()"]
    nothing, version, help_ = measure(
        [sys.executable, "-c", "pass"], [*entry, "--version"], [*entry, "--help"]
    )
    met = report("yeldro --version", version / nothing, 1.5, "python -c pass")
    return report("yeldro --help", help_ / nothing, 5, "python -c pass") and met


def on_archives() -> bool:
    from tools import bench_archive, bench_tree

    rows = int(os.environ.get("YELDRO_BENCH_ROWS", bench_tree.PARENTS))
    return bench_archive.bench_archive(report, rows)


def on_duplicates() -> bool:
    from tools import bench_duplicates

    rows = int(os.environ.get("YELDRO_BENCH_ROWS", bench_duplicates.ROWS))
    return bench_duplicates.bench_duplicates(report, rows)


def on_trees(name: str, *, sized: bool = True) -> Callable[[], bool]:
    """A bench over databases; YELDRO_BENCH_ROWS parents (200,000) where it has a size."""

    def bench() -> bool:
        from tools import bench_tree

        measure: Callable[..., bool] = getattr(bench_tree, f"bench_{name}")
        return (
            measure(report, int(os.environ.get("YELDRO_BENCH_ROWS", bench_tree.PARENTS)))
            if sized
            else measure(report)
        )

    return bench


BENCHES: dict[str, Callable[[], bool]] = {
    "startup": bench_startup,
    "tree": on_trees("tree"),
    "unindexed": on_trees("unindexed"),
    "growth": on_trees("growth"),
    "archive": on_archives,
    "duplicates": on_duplicates,
    "catalogue": on_trees("catalogue", sized=False),
}


def main() -> None:
    names = sys.argv[1:] or list(BENCHES)
    unknown = [name for name in names if name not in BENCHES]
    if unknown:
        sys.exit(f"unknown bench {unknown[0]}; there are: {', '.join(BENCHES)}")
    if not all([BENCHES[name]() for name in names]):
        sys.exit(1)


if __name__ == "__main__":
    main()
