"""What a forecast says against what the run takes then: a tree of which a tenth goes, with its
copy."""

from __future__ import annotations

import sys
import tempfile
from contextlib import closing
from pathlib import Path

from tools.bench_tree import PARENTS, build, engines, ours
from tools.figures import Figure, Figures
from yeldro.core.reach.request import Request
from yeldro.core.reach.rules import Rule, Rules
from yeldro.core.selection.selection import Asked
from yeldro.store.run_record import Keeping
from yeldro.usecases.forecast import look_and_forecast
from yeldro.usecases.steps import Deletion

_TURNS = 3


def bench_forecast(figures: Figures, parents: int = PARENTS) -> bool:
    """All engines; returns whether every bar was met."""
    met = True
    for server in engines():
        build(server, parents, cascade=False)
        worst = 1.0
        for _ in range(_TURNS):
            folder = Path(tempfile.mkdtemp())
            request = Request(Asked("basins", where=("batch = 3",)), Rules(Rule.DELETE), sample=0)
            with closing(server.open(wait=60)) as database:
                _, found = look_and_forecast(database, Deletion(database, request), folder, 0.25)
            assert found
            facts = {"kind": "delete", "asked": "", "address": ""}
            taken, _ = ours(server, None, Keeping(folder, facts=facts))
            said = (found.seconds[0] * found.seconds[1]) ** 0.5
            sys.stdout.write(f"    {server.engine}: said {said:.2f} s, took {taken:.2f} s\n")
            worst = max(worst, said / taken, taken / said)
        figure = Figure("forecast, at worst", server.engine, worst, 1.5, "what the run took")
        met &= figures.add(figure)
    return met
