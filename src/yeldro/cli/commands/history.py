"""yeldro history"""

from __future__ import annotations

import click

from yeldro.cli.options import command_of, takes
from yeldro.options import HistoryOptions


@command_of("history", HistoryOptions)
@click.argument("run", required=False)
@takes(HistoryOptions)
def command(options: HistoryOptions) -> int:
    """Past runs: when, what, where, by whom, with which outcome, and whether they were restored.

    With RUN the whole account of one. A run that died is settled by looking its rows up in the
    database.
    """
    from yeldro.cli.history import drop_records, show_history

    return drop_records(options) if options.drop else show_history(options)
