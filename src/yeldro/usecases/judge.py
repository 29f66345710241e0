"""What the limits of the whole run, and a seal, say to what a step found."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import replace

from yeldro.core.cleanup.keys import as_keys
from yeldro.core.database.connection import Database
from yeldro.core.reach.reach import Reach
from yeldro.core.run.outcome import Outcome as Outcome
from yeldro.core.run.preview import Preview
from yeldro.core.run.refusals import find_excess
from yeldro.core.run.seal import Difference, Sealed, list_sealed, make_seal
from yeldro.core.selection.guards import Guards
from yeldro.usecases.steps import Job

Compare = Callable[[str, Iterable[Sealed]], Difference]


def judge(
    database: Database,
    job: Job,
    found: Preview,
    limits: Guards,
    earlier: Sequence[Reach] = (),
    *,
    last: bool,
) -> Preview:
    """The preview of a step, with what the limits of the whole run say to it. `last`: no other step
    comes after it.

    What it says is put in the words of its file, where it has one.
    """
    excess = find_excess(database, limits, found.reach, earlier)
    total = found.reach.matched + sum(one.matched for one in earlier)
    if last and limits.expect and not limits.expect.holds(total):
        excess = [*excess, f"{limits.expect} rows were expected in all, {total:,} match."]
    found = replace(found, step=job.name, refusals=(*found.refusals, *excess))
    return found.reworded(as_keys) if job.name else found


def check_seal(database: Database, job: Job, found: Preview, compare: Compare) -> Preview:
    """With the seal of what a sealed step holds now, and a refusal where that is something else."""
    if not job.seal:
        return found
    seal = make_seal(database, found.reach)
    if seal == job.seal:
        return replace(found, seal=seal)
    difference = compare(job.name, list_sealed(database, found.reach))
    reason = f"It was sealed with {job.seal.matched:,} matched rows, and {seal.matched:,} match now"
    if not difference.is_known:
        reason += (
            "; which ones came and went is not known, because the file beside the cleanup is "
            "missing."
        )
    else:
        came, went = difference.rows
        reason += f": {came:,} rows came into its reach, {went:,} left it."
    return replace(found, seal=seal, difference=difference, refusals=(reason, *found.refusals))
