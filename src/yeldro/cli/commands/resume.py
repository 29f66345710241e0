"""yeldro resume"""

from __future__ import annotations

import click

from yeldro.cli.options import command_of, takes
from yeldro.options import ResumeOptions


@command_of("resume", ResumeOptions)
@click.argument("run")
@takes(ResumeOptions)
def command(options: ResumeOptions) -> int:
    """Go on with RUN, a run in batches that was stopped or died, with exactly the rows that are
    left.

    What became of its last batch is found out first. What is done and what is left is shown before
    anything more goes.
    """
    from yeldro.cli.resume import resume_run

    return resume_run(options)
