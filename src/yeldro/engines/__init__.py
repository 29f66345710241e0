"""All that differs between databases. Every engine fulfils the protocol in `core/database.py`."""

from __future__ import annotations

from pathlib import Path

from yeldro.core.database import Mode
from yeldro.engines.sqlite import SqliteDatabase, open_sqlite
from yeldro.errors import UsageError


def open_database(place: str, mode: Mode, wait: float) -> SqliteDatabase:
    """Open a database by its URL or by the path of an SQLite file. `wait` is the lock timeout in seconds."""
    scheme, separator, rest = place.partition("://")
    if not separator:
        return open_sqlite(Path(place), mode, wait)
    if scheme == "sqlite" and rest.startswith("/"):
        return open_sqlite(Path(rest[1:]), mode, wait)
    raise UsageError(f"The database URL begins with an unknown {scheme}://.", "Give a path, or sqlite:///PATH.")
