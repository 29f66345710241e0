"""yeldro report"""

from __future__ import annotations

import click

from yeldro.cli.options import command_of, takes
from yeldro.options import ReportOptions


@command_of("report", ReportOptions)
@click.argument("subject", metavar="RUN|FILE.toml")
@takes(ReportOptions)
def command(options: ReportOptions) -> int:
    """One page that says everything and can be filed: of a run, or of a cleanup before it runs.

    A page of a run is made from its record alone, RUN being its name or last. A page of a cleanup
    shows what it would do as the data is now. Both end with two lines to sign.
    """
    from yeldro.cli.report import write_report

    return write_report(options)
