"""The database of a run record."""

from __future__ import annotations

import os
from pathlib import Path

from msgspec.structs import replace

from yeldro.cli.connect import opened
from yeldro.cli.place import confirm_place
from yeldro.cli.request import full_address
from yeldro.core.database.abilities import Mode
from yeldro.core.database.connection import Database
from yeldro.core.model.address import looks_like_address
from yeldro.errors import UsageError, YeldroError
from yeldro.store.config import Place, find_config, find_place
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


def took_place_in(place: Place, database: Database, record: RunRecord) -> bool:
    """Whether a run did, over this node or another one of the same cluster."""
    is_same = full_address(place.address) == record.facts["address"]
    return is_same or bool(database.cluster and database.cluster == record.facts.get("cluster"))


def check_place(place: Place, database: Database, record: RunRecord) -> None:
    """UsageError where a run took place elsewhere."""
    if not took_place_in(place, database, record):
        raise UsageError(
            f"The run took place in {record.facts['address']}, which is another database."
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
