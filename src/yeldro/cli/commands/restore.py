"""yeldro restore"""

from __future__ import annotations

import sys
from typing import Any

import click

from yeldro.cli.complete import complete_table
from yeldro.cli.options import archive_option, database_options, no_rollback_option


@click.command("restore")
@click.argument("run")
@click.option("--table", "tables", multiple=True, metavar="TABLE", shell_complete=complete_table, help="Only its rows.")
@click.option("--key", "keys", multiple=True, metavar="VALUE", help="Only this row and what hung on it.")
@click.option(
    "--differing",
    type=click.Choice(["stop", "keep"]),
    default="stop",
    show_default=True,
    help="Keys that are there with other values: stop, or keep those and restore the rest.",
)
@click.option("--into", metavar="DB", help="Another database of the same engine that has the tables.")
@click.option("--rehearse", is_flag=True, help="Do everything, show the tally, roll back.")
@click.option("--yes", is_flag=True, help="Do not ask.")
@no_rollback_option()
@click.option("--confirm", metavar="NAME", help="The name of a protected database, instead of typing it.")
@archive_option()
@database_options("json")
def command(**options: Any) -> int:
    """Put the archived rows of RUN back, parents first, exactly as they were, in one transaction.

    RUN is the name of a run record, the beginning of it, `last`, or the path of its folder. Rows that are there
    unchanged are skipped, so it can be run twice. Nothing else is overwritten.
    """
    from yeldro.cli.person import Person
    from yeldro.cli.place import confirm_place, find_records_folder
    from yeldro.cli.records import find_place_of
    from yeldro.cli.request import full_address, opened
    from yeldro.cli.run_command import tell
    from yeldro.cli.screen import Screen
    from yeldro.core.database.connection import Mode
    from yeldro.errors import UsageError
    from yeldro.store.records import find_record
    from yeldro.usecases import restore as restoring

    screen = Screen(options["format"])
    if options["no_rollback"] and options["rehearse"]:
        raise UsageError("--no-rollback excludes --rehearse: not all of it could be taken back.")
    asks = not (options["yes"] or options["rehearse"])
    if asks and not sys.stdin.isatty():
        raise UsageError("There is no terminal to ask on.", "Give --yes to restore without a question, or --rehearse.")
    record = find_record(find_records_folder(options["archive"]), options["run"])
    if options["into"] and options["db"]:
        raise UsageError("--into excludes --db.")
    can_ask = asks or (sys.stdin.isatty() and not options["yes"])
    place = confirm_place(find_place_of(record, options["into"] or options["db"]), asks=can_ask)
    protected = place.name if place.protected and not options["rehearse"] else ""
    if protected and not asks and options["confirm"] != protected:
        raise UsageError(
            f"The database {protected} is protected: --yes alone is not enough.", f"Say --confirm {protected} too."
        )
    person = Person(screen, place.title, "", "" if options["confirm"] == protected else protected, "read")
    with opened(place, Mode.WRITE, options["wait"]) as database:
        request = restoring.RestoreRequest(
            options["tables"],
            options["keys"],
            options["differing"] == "keep",
            options["rehearse"],
            asks,
            options["no_rollback"],
            database.name if full_address(place.address) != record.facts["address"] else "",
        )
        result = restoring.restore(database, record, request, person)
    tell(screen, "restore", result, "", person)
    return result.status
