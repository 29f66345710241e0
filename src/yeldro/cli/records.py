"""The database of a run record."""

from __future__ import annotations

from pathlib import Path

from yeldro import restoring
from yeldro.cli.request import full_address, opened
from yeldro.core.database import Mode
from yeldro.errors import UsageError, YeldroError
from yeldro.store.config import Place, find_config, find_place
from yeldro.store.records import IN_DOUBT, RunRecord


def find_place_of(record: RunRecord, asked: str | None) -> Place:
    """Where a run took place: the database of that name in yeldro.toml, else its address; or the one that was asked
    for."""
    config = find_config(Path.cwd())
    name = record.facts["database"]
    return find_place(asked or (name if name in config.databases else record.facts["address"]), None, config)


def settle_all(records: list[RunRecord], asked: str | None, wait: float) -> list[str]:
    """Settle those that are in doubt, each in its own database. Returns why some could not be."""
    left = []
    for record in records:
        if IN_DOUBT in (record.outcome, record.restored):
            try:
                place = find_place_of(record, asked)
                if full_address(place.address) != record.facts["address"]:
                    raise UsageError(f"It took place in {record.facts['address']}, which is another database.")
                with opened(place, Mode.WRITE, wait) as database:
                    reason = restoring.settle(database, record)
                    left += [f"{record.name} stays in doubt: {reason}."] * bool(reason)
            except YeldroError as error:
                left.append(f"{record.name} stays in doubt: {error.message}")
    return left
