"""All that differs between databases. Every engine fulfils the protocol in `core/database.py`."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

from msgspec.structs import replace

from yeldro.core.model.address import POSTGRESQL, Address, Link, read_address

# Seconds to wait for a server whose database is made, or dropped.
_WAIT = 30

if TYPE_CHECKING:
    from yeldro.core.database.abilities import Mode
    from yeldro.core.database.connection import Database
    from yeldro.core.database.followers import Follower


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
    address = _with_password(address, password)
    if address.kind == POSTGRESQL:
        from yeldro.engines.postgresql.connection import open_postgresql

        return open_postgresql(address, mode, wait, link or Link())
    from yeldro.engines.mariadb.connection import open_mariadb

    return open_mariadb(address, mode, wait, link or Link())


def open_follower(
    address: Address, password: str | None = None, link: Link | None = None
) -> Follower:
    """A server that is only looked at. It is connected to when it is."""
    address = _with_password(address, password)
    if address.kind == POSTGRESQL:
        from yeldro.engines.postgresql.follower import Standby

        return Standby(address, link or Link())
    from yeldro.engines.mariadb.follower import Other

    return Other(address, link or Link())


def connect_plainly(address: Address, password: str | None = None) -> Any:
    """A connection of the driver to a server, which commits by itself, for statements of our own
    making."""
    address = _with_password(address, password)
    if address.kind == POSTGRESQL:
        from yeldro.engines.postgresql.link import GuardedConnection, find_arguments

        return GuardedConnection.connect(**find_arguments(address, _WAIT, Link()), autocommit=True)
    from yeldro.engines.mariadb.link import connect

    made = connect(address, _WAIT, Link())
    made.autocommit(True)
    return made


def _with_password(address: Address, password: str | None) -> Address:
    if not password or "password" in address.secrets:
        return address
    return replace(address, secrets={**address.secrets, "password": password})
