"""The use cases that remove rows, or what they hold, in one transaction or in many."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from yeldro.core.clearing.request import ClearRequest
from yeldro.core.database.connection import Database
from yeldro.core.duplicates.request import DuplicatesRequest
from yeldro.core.reach.request import Request
from yeldro.core.run.outcome import Outcome as Outcome
from yeldro.core.run.outcome import RunResult
from yeldro.core.run.preview import Preview
from yeldro.core.run.seal import Difference
from yeldro.core.selection.guards import Guards
from yeldro.errors import (
    Refused,
    UsageError,
)
from yeldro.store.run_record import Keeping
from yeldro.usecases.answers import Answers
from yeldro.usecases.batches import run_in_batches
from yeldro.usecases.judge import Compare, check_seal, judge
from yeldro.usecases.one_transaction import Manner as Manner
from yeldro.usecases.one_transaction import Run
from yeldro.usecases.steps import BatchJob, Clearing, Deletion, Job, Merging
from yeldro.usecases.transaction import carry_out, looking


def delete(
    database: Database,
    request: Request,
    manner: Manner,
    answers: Answers,
    keeping: Keeping | None = None,
) -> RunResult:
    """Preview, ask, archive, delete, compare, and commit only what was shown.

    Faults after the preview end in the result. Without `keeping` there is neither a record nor an
    archive.
    """
    return run(database, [Deletion(database, request)], manner, answers, keeping)


def clear(
    database: Database,
    request: ClearRequest,
    manner: Manner,
    answers: Answers,
    keeping: Keeping | None = None,
) -> RunResult:
    """The same for what rows hold in some columns: the rows stay."""
    return run(database, [Clearing(database, request)], manner, answers, keeping)


def dedupe(
    database: Database,
    request: DuplicatesRequest,
    manner: Manner,
    answers: Answers,
    keeping: Keeping | None = None,
) -> RunResult:
    """The same for surplus rows of duplicates: what depends on them is moved first."""
    return run(database, [Merging(database, request)], manner, answers, keeping)


def run(
    database: Database,
    jobs: Sequence[BatchJob],
    manner: Manner,
    answers: Answers,
    keeping: Keeping | None = None,
    limits: Guards | None = None,
    compare: Compare = lambda _, __: Difference(),
) -> RunResult:
    """Several steps in one transaction, each seeing what those before it did. `limits` hold for all
    of them together.

    What a step finds is settled when its turn comes. Where a person was asked, rows that were not
    shown by then are asked for again. Sealed steps must all find what was sealed before the first
    change, and nothing else in their turn; `compare` tells what is different.
    """
    if manner.pace:
        return run_in_batches(database, jobs[0], manner, answers, keeping, limits, compare)
    if any(job.selection.truncate for job in jobs) and not database.abilities.rolls_back_truncate:
        if manner.rehearse or manner.ask_last:
            raise Refused(
                database.abilities.truncates,
                "So --truncate goes without --rehearse and --ask-last.",
            )
        if len(jobs) > 1:
            raise Refused(
                database.abilities.truncates, "So truncate goes alone, not beside other steps."
            )
    if len(jobs) > 1 and keeping and keeping.table:
        raise UsageError(
            "--archive-table keeps the rows of one step.",
            "Run the steps one at a time, with --step.",
        )
    one = Run(
        database,
        jobs,
        manner,
        answers,
        None if manner.rehearse else keeping,
        limits or Guards(),
        compare,
    )
    try:
        return carry_out(database, one.go, one.failed)
    except BaseException:
        one.keeper.rolled_back("Something unexpected went wrong.")
        raise
    finally:
        database.record(None)
        one.keeper.close()


def look_ahead(
    database: Database, jobs: Sequence[Job], limits: Guards, compare: Compare | None = None
) -> Iterator[Preview]:
    """What each step would find as the data is now, in a transaction that cannot change anything.

    Without `compare` nobody looks at their seals.
    """
    for job in jobs:
        job.prepare()
    with looking(database):
        for job in jobs:
            found = judge(database, job, job.look(store=True), limits, last=len(jobs) == 1)
            yield check_seal(database, job, found, compare) if compare else found
