"""What the limits of the whole run, and a seal, say to what a step found."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence

from msgspec.structs import replace

from yeldro.core.database.connection import Database
from yeldro.core.model.fact import fact
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
    comes after it."""
    excess = find_excess(database, limits, found.reach, earlier)
    total = found.reach.matched + sum(one.matched for one in earlier)
    if last and limits.expect and not limits.expect.holds(total):
        matching = fact("found.matching", rows=total)
        excess.append(
            fact(
                "refused.not-expected-in-all",
                expect=str(limits.expect),
                number=limits.expect.number,
                found=matching,
            )
        )
    return replace(found, step=job.name, refusals=(*found.refusals, *excess))


def check_seal(database: Database, job: Job, found: Preview, compare: Compare) -> Preview:
    """With the seal of what a sealed step holds now, and a refusal where that is something else."""
    if not job.seal:
        return found
    seal = make_seal(database, found.reach)
    if seal.is_on_same_rows(job.seal):
        return replace(found, seal=seal)
    difference = compare(job.name, list_sealed(database, found.reach))
    counts = {"sealed": job.seal.matched, "rows": seal.matched}
    if difference.is_known:
        came, went = difference.rows
        reason = fact("refused.seal", **counts, came=came, went=went)
    else:
        reason = fact("refused.seal-unknown", **counts)
    return replace(found, seal=seal, difference=difference, refusals=(reason, *found.refusals))
