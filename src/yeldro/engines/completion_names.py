"""Table and column names for completion in a shell, by the driver alone: it must answer at once."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterable
from contextlib import closing
from pathlib import Path
from urllib.parse import quote

from msgspec.structs import replace

from yeldro.core.model.address import POSTGRESQL, Address, Link

Names = dict[str, list[str]]

_SQLITE = """
SELECT m.name, c.name FROM main.sqlite_master AS m JOIN pragma_table_info(m.name) AS c
WHERE m.type IN ('table', 'view') AND m.name NOT LIKE 'sqlite~_%' ESCAPE '~' ORDER BY m.name,
c.cid"""
_POSTGRESQL = """
SELECT CASE WHEN n.nspname::text = ANY (%s) THEN c.relname ELSE n.nspname || '.' || c.relname END,
a.attname
FROM pg_class AS c JOIN pg_namespace AS n ON n.oid = c.relnamespace JOIN pg_attribute AS a ON
a.attrelid = c.oid
WHERE c.relkind IN ('r', 'p', 'v') AND a.attnum > 0 AND NOT a.attisdropped AND n.nspname <>
'information_schema'
  AND n.nspname !~ '^pg_' ORDER BY 1, a.attnum"""
_MARIADB = """
SELECT TABLE_NAME, COLUMN_NAME FROM information_schema.COLUMNS WHERE TABLE_SCHEMA = DATABASE()
ORDER BY TABLE_NAME, ORDINAL_POSITION"""


def list_names(address: Address, password: str | None, link: Link) -> Names:
    """The columns of every table and view. Any error of a driver goes through to the caller."""
    if address.is_file:
        path = Path(address.path).resolve()
        with closing(
            sqlite3.connect(f"file:{quote(str(path))}?mode=ro", uri=True, timeout=0.2)
        ) as file:
            return _grouped(file.execute(_SQLITE))
    if password and "password" not in address.secrets:
        address = replace(address, secrets={"password": password})
    if address.kind == POSTGRESQL:
        import psycopg

        from yeldro.engines.postgresql.link import find_arguments

        with psycopg.connect(**find_arguments(address, 2, link)) as server:
            found = server.execute("SELECT pg_catalog.current_schemas(false)").fetchone()
            # Nobody else's operators: see postgresql_compiler.
            server.execute("SET search_path = pg_catalog, pg_temp")
            return _grouped(server.execute(_POSTGRESQL, ((found[0] if found else [""])[:1],)))
    from yeldro.engines.mariadb.link import connect

    with connect(address, 2, link) as connection:
        cursor = connection.cursor()
        cursor.execute(_MARIADB)
        return _grouped(cursor.fetchall())


def _grouped(rows: Iterable[tuple[str, str]]) -> Names:
    names: Names = {}
    for table, column in rows:
        names.setdefault(table, []).append(column)
    return names
