"""What a command takes from its start to its end, as a whole process."""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
import time
from collections.abc import Sequence
from pathlib import Path
from statistics import median

from tools.figures import Figures

RUNS = 21
_NEEDED = "import sqlalchemy, click, sqlite3"


def measure(*commands: Sequence[str], folder: Path | None = None) -> list[float]:
    """The median time of each command in seconds, the commands taking turns so that noise falls on
    all alike."""
    # Compiled modules are kept, as they are where the tool is installed.
    environment = {key: os.environ[key] for key in os.environ if key != "PYTHONDONTWRITEBYTECODE"}
    times: list[list[float]] = [[] for _ in commands]
    for _ in range(RUNS):
        for command, taken in zip(commands, times, strict=True):
            start = time.perf_counter()
            subprocess.run(
                command, check=True, stdout=subprocess.DEVNULL, cwd=folder, env=environment
            )
            taken.append(time.perf_counter() - start)
    return [median(taken) for taken in times]


def bench_startup(figures: Figures) -> bool:
    """Against an interpreter that does nothing, and against importing what a command cannot do
    without."""
    entry = [sys.executable, "-c", "from yeldro.__main__ import main; main()"]
    nothing, version, help_ = measure(
        [sys.executable, "-c", "pass"], [*entry, "--version"], [*entry, "--help"]
    )
    met = figures.compare("--version", "", [version], {"python -c pass": ([nothing], 1.5)})
    met &= figures.compare("--help", "", [help_], {"python -c pass": ([nothing], 5)})
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name) / "demo"
        subprocess.run([*entry, "demo", str(folder), "--build-only"], check=True)
        commands = {
            "preview --key": ["preview", "readings", "--key", "1"],
            "preview --where": ["preview", "readings", "--where", "id = 1"],
            "survey": ["survey"],
            "history": ["history"],
        }
        plain, reading, *taken = measure(
            [sys.executable, "-c", _NEEDED],
            [sys.executable, "-c", f"{_NEEDED}, sqlglot"],
            *([*entry, *command] for command in commands.values()),
            folder=folder,
        )
        for job, mine in zip(commands, taken, strict=True):
            base = reading if job == "preview --where" else plain
            met &= figures.compare(job, "", [mine], {"importing what it needs": ([base], 1.25)})
    return met
