"""The database of a run record."""

from __future__ import annotations

import os
from pathlib import Path

from msgspec.structs import replace

from yeldro.cli.connect import opened
from yeldro.cli.place import confirm_place, list_records_folders
from yeldro.cli.request import full_address
from yeldro.core.database.abilities import Mode
from yeldro.core.database.connection import Database
from yeldro.core.model.address import looks_like_address
from yeldro.errors import UsageError, YeldroError
from yeldro.options import RecordOptions
from yeldro.store.config import Place, find_config, find_place
from yeldro.store.find_records import find_record_in, find_records
from yeldro.store.run_record import IN_DOUBT, RunRecord
from yeldro.usecases.settle import settle


def find_place_of(record: RunRecord, asked: str | None) -> Place:
    """Where a run took place: what was asked for, else the database of that name in yeldro.toml,
    else the address of the record, which is nobody's word but its own."""
    config = find_config(Path.cwd())
    name, address = record.facts["database"], record.facts["address"]
    if asked or (name in config.databases and not looks_like_address(name)):
        return find_place(asked or name, None, config)
    said = os.environ.get("YELDRO_DB")
    if said and full_address(find_place(said, None, config).address) == address:
        return find_place(said, None, config)
    return replace(find_place(address, None, config), source=f"The record of {record.name}")


def find_run(options: RecordOptions, db: str | None, name: str) -> RunRecord:
    """The record that a person named. `last` is the last run in the database that they named, with
    --db or YELDRO_DB, else the last of all."""
    folders = list_records_folders(options.archive, db)
    said = db or os.environ.get("YELDRO_DB")
    if name != "last" or not said:
        return find_record_in(folders, name)
    place = find_place(said, None, find_config(Path.cwd()))
    there = [folder for folder in folders if folder.is_dir()]
    found = [one for folder in there for one in find_records(folder) if _may_be_of(one, place)]
    if not found:
        raise UsageError(f"There is no run on {place.title} in {folders[0]}.")
    return max(found, key=lambda one: str(one.facts["began"]))


def _may_be_of(record: RunRecord, place: Place) -> bool:
    """Whether it did, or may have: over which node of a cluster it ran says little."""
    ends = (full_address(place.address), record.facts["address"])
    database, known = (end.rpartition("/")[2] for end in ends)
    return is_of(record, place) or bool(record.facts.get("cluster") and database == known)


def is_of(record: RunRecord, place: Place) -> bool:
    """Whether a run took place in a database, as far as its address tells."""
    return _strip(full_address(place.address)) == _strip(record.facts["address"])


def _strip(address: str) -> str:
    """Another account does not make it another database."""
    scheme, mark, rest = address.partition("://")
    host, slash, path = rest.partition("/")
    return f"{scheme}{mark}{host.rpartition('@')[2]}{slash}{path}"


def took_place_in(place: Place, database: Database, record: RunRecord) -> bool:
    """Whether a run did, over this node or another one of the same cluster."""
    return is_of(record, place) or bool(
        database.cluster and database.cluster == record.facts.get("cluster")
    )


def check_place(place: Place, database: Database, record: RunRecord, hint: str = "") -> None:
    """UsageError where a run took place elsewhere."""
    if not took_place_in(place, database, record):
        raise UsageError(
            f"The run took place in {record.facts['address']}, which is another database than "
            f"{place.title}.",
            hint,
        )


def settle_all(records: list[RunRecord], asked: str | None, wait: float) -> list[str]:
    """Settle those that are in doubt, each in its own database. Returns why some could not be."""
    left = []
    for record in records:
        if IN_DOUBT in (record.outcome, record.restored):
            try:
                place = confirm_place(find_place_of(record, asked), asks=False)
                with opened(place, Mode.WRITE, wait) as database:
                    check_place(place, database, record)
                    reason = settle(database, record)
                    left += [f"{record.name} stays in doubt: {reason}."] * bool(reason)
            except YeldroError as error:
                left.append(f"{record.name} stays in doubt: {error.message}")
    return left
