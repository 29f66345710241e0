"""Table and column names for completion in a shell, by the driver alone: it must answer at once."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterable
from contextlib import closing
from pathlib import Path
from urllib.parse import quote, unquote, urlsplit

Names = dict[str, list[str]]

_SQLITE = """
SELECT m.name, c.name FROM main.sqlite_master AS m JOIN pragma_table_info(m.name) AS c
WHERE m.type IN ('table', 'view') AND m.name NOT LIKE 'sqlite~_%' ESCAPE '~' ORDER BY m.name, c.cid"""
_POSTGRESQL = """
SELECT CASE WHEN n.nspname = current_schema() THEN c.relname ELSE n.nspname || '.' || c.relname END, a.attname
FROM pg_class AS c JOIN pg_namespace AS n ON n.oid = c.relnamespace JOIN pg_attribute AS a ON a.attrelid = c.oid
WHERE c.relkind IN ('r', 'p', 'v') AND a.attnum > 0 AND NOT a.attisdropped AND n.nspname <> 'information_schema'
  AND n.nspname !~ '^pg_' ORDER BY 1, a.attnum"""
_MARIADB = """
SELECT TABLE_NAME, COLUMN_NAME FROM information_schema.COLUMNS WHERE TABLE_SCHEMA = DATABASE()
ORDER BY TABLE_NAME, ORDINAL_POSITION"""


def list_names(place: str, password: str | None) -> Names:
    """The columns of every table and view. Any error of a driver goes through to the caller."""
    scheme, separator, rest = place.partition("://")
    if not separator or scheme == "sqlite":
        path = Path(rest[1:] if separator else place).resolve()
        with closing(sqlite3.connect(f"file:{quote(str(path))}?mode=ro", uri=True, timeout=0.2)) as file:
            return _grouped(file.execute(_SQLITE))
    if scheme == "postgresql":
        import psycopg

        with psycopg.connect(place, connect_timeout=2, password=password or urlsplit(place).password) as server:
            return _grouped(server.execute(_POSTGRESQL))
    import pymysql

    url = urlsplit(place)
    with pymysql.connect(
        host=url.hostname or "localhost",
        port=url.port or 3306,
        user=unquote(url.username or ""),
        password=unquote(url.password or password or ""),
        database=unquote(url.path.lstrip("/")),
        connect_timeout=2,
    ) as connection:
        cursor = connection.cursor()
        cursor.execute(_MARIADB)
        return _grouped(cursor.fetchall())


def _grouped(rows: Iterable[tuple[str, str]]) -> Names:
    names: Names = {}
    for table, column in rows:
        names.setdefault(table, []).append(column)
    return names
