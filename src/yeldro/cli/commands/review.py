"""yeldro review"""

from __future__ import annotations

import sys
from pathlib import Path

import click

from yeldro.cli.options import allow_function_option, database_options
from yeldro.errors import UsageError


@click.command("review")
@click.argument("script")
@click.option("--dialect", metavar="NAME", help="The dialect of the script, such as postgres, mysql, sqlite, tsql.")
@click.option("--save", metavar="FILE", help="Write them as a cleanup file, in the order that can work.")
@click.option("--replace", is_flag=True, help="--save may write over a file; its comments stay.")
@allow_function_option()
@database_options("json")
def command(
    script: str,
    dialect: str | None,
    save: str | None,
    replace: bool,
    allow_function: tuple[str, ...],
    db: str | None,
    wait: float,
    format: str,
) -> int:
    """Read the DELETE and TRUNCATE statements of SCRIPT and tell what each would do. Runs none of them.

    Ends with status 3 where there is something to mend or that could not be judged.
    """
    from yeldro.cli.place import find_database
    from yeldro.cli.request import opened
    from yeldro.cli.screen import Screen
    from yeldro.core.database.connection import Mode
    from yeldro.errors import Refused
    from yeldro.report.documents import make_review
    from yeldro.report.review import render_review
    from yeldro.usecases import look as workflow

    screen = Screen(format)
    text = _read(script)
    with opened(find_database(db), Mode.READ, wait, allow_function) as database:
        found = workflow.review(database, text, dialect)
        if save:
            from yeldro.cli.saving import save_reviewed

            save_reviewed(found, Path(script), Path(save), db, replace=replace)
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
