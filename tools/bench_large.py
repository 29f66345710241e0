"""20 million rows: a tree of them, a tenth of which goes, with its archive, and comes back.

The time against ten times that of 2 million, and the memory of the client.
"""

from __future__ import annotations

import resource
import tempfile
from functools import partial
from pathlib import Path

from tools.bench_archive import ANSWERS, restore, timed
from tools.bench_tree import build, engines, ours
from tools.figures import Figure, Figures
from yeldro.core.database.connection import Database
from yeldro.core.reach.request import Request
from yeldro.core.reach.rules import Rule, Rules
from yeldro.core.run.outcome import RunResult
from yeldro.core.selection.selection import Asked
from yeldro.store.find_records import find_record
from yeldro.store.run_record import Keeping
from yeldro.usecases import run as running

# Parents of a tree with 20 million rows.
LARGE = 1_250_000
_JOBS = ("delete", "delete with its archive", "restore")


def bench_large(figures: Figures, parents: int = LARGE) -> bool:
    met = True
    for server in engines():
        keeping = Keeping(
            Path(tempfile.mkdtemp()), facts={"kind": "delete", "asked": "", "address": ""}
        )
        each: list[list[float]] = []
        # The smallest one first, so that what is imported meanwhile is there before memory is
        # measured.
        for size in (parents // 1000, parents // 10, parents):
            build(server, size, cascade=False)
            start = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
            taken = [ours(server)[0], timed(server, partial(_delete, keeping))]
            taken.append(timed(server, partial(restore, find_record(keeping.folder, "last"))))
            each.append(taken)
            grown = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - start
        for job, small, large in zip(_JOBS, each[1], each[2], strict=True):
            others = {"ten times 2 million": ([small * 10], 1.2)}
            met &= figures.compare(f"20 million: {job}", server.engine, [large], others)
        met &= figures.add(Figure("20 million, memory", server.engine, grown / 1024, 16, "MiB"))
    return met


def _delete(keeping: Keeping, database: Database) -> RunResult:
    request = Request(Asked("basins", where=("batch = 3",)), Rules(Rule.DELETE), sample=0)
    return running.delete(database, request, running.Manner(ask_first=False), ANSWERS, keeping)
