"""The database of a command, open for as long as the command works."""

from __future__ import annotations

import gc
import os
from collections.abc import Iterator, Sequence
from contextlib import contextmanager

from yeldro.cli.screen import Screen
from yeldro.cli.waiting import LINE
from yeldro.core.database.abilities import Mode
from yeldro.core.database.connection import Database
from yeldro.core.database.followers import Follower
from yeldro.engines.open import open_database, open_follower
from yeldro.errors import UsageError
from yeldro.store.config import Place


@contextmanager
def opened(
    place: Place, mode: Mode, wait: float, allowed: Sequence[str] = ()
) -> Iterator[Database]:
    """An open connection, with the references that yeldro.toml adds to the schema.

    `allowed` are functions that conditions may call, whatever they do.
    """
    if place.source and not place.address.is_file:
        raise UsageError(f"{place.source} names the server {place.address}, and you do not.")
    database = open_database(
        place.address, mode, wait, os.environ.get("YELDRO_DB_PASSWORD"), place.link
    )
    database.name, database.title = place.name or str(place.address), place.title
    database.announce = LINE
    # What is imported by now stays, and need not be looked through again.
    gc.freeze()
    gc.enable()
    try:
        database.schema = database.schema.with_references(place.references)
        database.allow_functions(allowed)
        yield database
        if database.note:
            Screen("text").note(database.note)
    finally:
        LINE.clear()
        database.close()


@contextmanager
def watched(place: Place, behind: float | None) -> Iterator[tuple[Follower, ...]]:
    """The servers that yeldro.toml names beside a database, where somebody asks how far behind they
    are."""
    password = os.environ.get("YELDRO_DB_PASSWORD")
    addresses = () if behind is None else place.watch
    followers = tuple(open_follower(address, password, place.link) for address in addresses)
    try:
        yield followers
    finally:
        for follower in followers:
            follower.close()
