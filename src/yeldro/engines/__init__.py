"""All that differs between databases. Every engine fulfils the protocol in `core/database.py`."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from yeldro.errors import UsageError

if TYPE_CHECKING:
    from yeldro.core.database import Database, Mode


def open_database(place: str, mode: Mode, wait: float, password: str | None = None) -> Database:
    """Open a database by its URL or by the path of an SQLite file.

    `wait` is the lock timeout in seconds; `password` is used where the URL holds none.
    """
    scheme, separator, rest = place.partition("://")
    if not separator or scheme == "sqlite":
        from yeldro.engines.sqlite import open_sqlite

        if separator and not rest.startswith("/"):
            raise UsageError("The URL of an SQLite file is sqlite:///PATH.")
        return open_sqlite(Path(rest[1:] if separator else place), mode, wait)
    if scheme not in ("postgresql", "mariadb", "mysql"):
        raise UsageError(
            f"The database URL begins with an unknown {scheme}://.",
            "Give a path, or a URL with sqlite:///, postgresql://, mariadb:// or mysql://.",
        )
    import sqlalchemy as sa

    try:
        url = sa.make_url(place)
    except (sa.exc.ArgumentError, ValueError):
        raise UsageError(f"The {scheme}:// URL cannot be read.", "It is SCHEME://USER@HOST:PORT/DATABASE.") from None
    if password and url.password is None:
        url = url.set(password=password)
    if scheme == "postgresql":
        from yeldro.engines.postgresql import open_postgresql

        return open_postgresql(url, wait)
    from yeldro.engines.mariadb import open_mariadb

    return open_mariadb(url, wait)
