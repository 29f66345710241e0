"""yeldro history"""

from __future__ import annotations

import click

from yeldro.cli.options import command_of, takes
from yeldro.errors import UsageError
from yeldro.options import HistoryOptions


@command_of("history", HistoryOptions)
@click.argument("run", required=False)
@takes(HistoryOptions)
def command(options: HistoryOptions) -> int:
    """Past runs: when, what, where, by whom, with which outcome, and whether they were restored.

    With RUN the whole account of one. A run that died is settled by looking its rows up in the
    database.
    """
    from yeldro.cli.history import drop_records, show_history, verify_records

    if options.verify and options.drop:
        raise UsageError("--drop deletes records and --verify looks at them: give one of the two.")
    if options.verify:
        return verify_records(options)
    return drop_records(options) if options.drop else show_history(options)
