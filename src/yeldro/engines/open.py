"""All that differs between databases. Every engine fulfils the protocol in `core/database.py`."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from msgspec.structs import replace

from yeldro.core.model.address import POSTGRESQL, Address, Link, read_address

if TYPE_CHECKING:
    from yeldro.core.database.abilities import Mode
    from yeldro.core.database.connection import Database


def open_database(
    place: Address | str,
    mode: Mode,
    wait: float,
    password: str | None = None,
    link: Link | None = None,
) -> Database:
    """Open a database. `wait` is the lock timeout in seconds; `password` is used where the address
    holds none."""
    address = read_address(place) if isinstance(place, str) else place
    if address.is_file:
        from yeldro.engines.sqlite.connection import open_sqlite

        return open_sqlite(Path(address.path), mode, wait)
    if password and "password" not in address.secrets:
        address = replace(address, secrets={**address.secrets, "password": password})
    if address.kind == POSTGRESQL:
        from yeldro.engines.postgresql.connection import open_postgresql

        return open_postgresql(address, wait, link or Link())
    from yeldro.engines.mariadb.connection import open_mariadb

    return open_mariadb(address, wait, link or Link())
