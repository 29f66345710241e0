"""yeldro review"""

from __future__ import annotations

import sys
from pathlib import Path

import click

from yeldro.cli.options import command_of, takes
from yeldro.errors import UsageError
from yeldro.options import ReviewOptions


@command_of("review", ReviewOptions)
@click.argument("script")
@takes(ReviewOptions)
def command(options: ReviewOptions) -> int:
    """Read the DELETE and TRUNCATE statements of SCRIPT and tell what each would do. Runs none of
    them.

    Ends with status 3 where there is something to fix or that could not be judged.
    """
    from yeldro.cli.connect import opened
    from yeldro.cli.place import find_database
    from yeldro.cli.screen import Screen
    from yeldro.core.database.abilities import Mode
    from yeldro.errors import Refused
    from yeldro.report.documents import make_review
    from yeldro.report.review import render_review
    from yeldro.usecases import review as workflow

    screen = Screen(options.format)
    text = _read(options.script)
    with opened(
        find_database(options.db), Mode.READ, options.wait, options.allow_function
    ) as database:
        found = workflow.review(database, text, options.dialect)
        if options.save:
            from yeldro.cli.saving import save_reviewed

            path = Path(options.save)
            save_reviewed(
                found, Path(options.script), path, options.db, may_replace=options.replace
            )
        if screen.format == "json":
            screen.write_document(make_review(found))
        else:
            screen.show(render_review(found))
    return Refused.status if found.has_findings else 0


def _read(script: str) -> str:
    try:
        return sys.stdin.read() if script == "-" else Path(script).read_text("utf-8")
    except OSError as error:
        raise UsageError(f"The script {script} cannot be opened: {error.strerror}.") from None
    except UnicodeDecodeError:
        raise UsageError(f"The script {script} is not UTF-8 text.") from None
