"""The demo in a database of its own on a server, made and dropped."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import closing, contextmanager
from pathlib import Path
from typing import Any

from msgspec.structs import replace

from yeldro.cli.place import find_database
from yeldro.core.model.address import POSTGRESQL, Address
from yeldro.demo.servers import NAME, is_larkwater, load_larkwater
from yeldro.engines.open import connect_plainly
from yeldro.errors import DatabaseFailed, UsageError
from yeldro.store.config import FILE_NAME, find_config

_TABLES = {
    POSTGRESQL: "SELECT relname FROM pg_class WHERE relkind = 'r' AND relnamespace = "
    "'public'::regnamespace",
}
_MARIADB_TABLES = "SELECT table_name FROM information_schema.tables WHERE table_type = 'BASE TABLE'"


def make_on_server(db: str, scale: int) -> Address:
    """Make the demo in a new database beside the one that is named. UsageError where there is one
    of this name, or where this is no server."""
    address = find_database(db).address
    if address.is_file:
        raise UsageError(f"--db names a server, and {address} is a file.", "Leave --db out.")
    ours = replace(address, database=NAME)
    with _connected(address) as connection:
        if NAME in _list_databases(connection, address):
            raise UsageError(
                f"There is a database {NAME} on {address.host} already.",
                "Drop it where it is a demo: yeldro demo DIR --drop",
            )
        connection.cursor().execute(f"CREATE DATABASE {NAME}")
    try:
        with _connected(ours) as connection:
            load_larkwater(connection, ours.kind, scale)
    except BaseException:
        _drop(ours)
        raise
    return ours


def drop_from_server(folder: Path) -> Address:
    """Drop the database that the yeldro.toml of a demo names. UsageError where that holds anything
    but the demo."""
    config = find_config(folder.absolute())
    ours = config.folder == folder.absolute()
    place = config.databases.get(config.default or "") if ours else None
    if place is None or place.address.is_file or place.address.database != NAME:
        raise UsageError(f"{folder / FILE_NAME} names no demo on a server.")
    address = place.address
    with _connected(address) as connection:
        cursor = connection.cursor()
        cursor.execute(_TABLES.get(address.kind, f"{_MARIADB_TABLES} AND table_schema = '{NAME}'"))
        if not is_larkwater([str(row[0]) for row in cursor.fetchall()]):
            raise UsageError(f"{address} holds other tables than the demo: it is left alone.")
    _drop(address)
    return address


def _drop(address: Address) -> None:
    """PostgreSQL drops no database that one is connected to."""
    beside = replace(address, database="postgres" if address.kind == POSTGRESQL else "")
    with _connected(beside) as connection:
        connection.cursor().execute(f"DROP DATABASE {NAME}")


@contextmanager
def _connected(address: Address) -> Iterator[Any]:
    try:
        with closing(connect_plainly(address)) as connection:
            yield connection
    except (UsageError, DatabaseFailed):
        raise
    except Exception as error:  # of either driver
        raise DatabaseFailed(f"The server of {address} refused: {error}") from error


def _list_databases(connection: Any, address: Address) -> set[str]:
    cursor = connection.cursor()
    asked = "SELECT datname FROM pg_database" if address.kind == POSTGRESQL else "SHOW DATABASES"
    cursor.execute(asked)
    return {str(row[0]) for row in cursor.fetchall()}
