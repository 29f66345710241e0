"""A world made in a real database, and read back row by row."""

from __future__ import annotations

import sqlite3
from pathlib import Path

from tests.property.model import Row, World
from yeldro.core.database import Database, Mode
from yeldro.engines import open_database


class SqliteLab:
    """Makes each world in a new file."""

    set_default = True

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.number = 0

    def make(self, world: World) -> None:
        self.number += 1
        self.path = self.folder / f"world{self.number}.db"
        connection = sqlite3.connect(self.path)
        for name in world.rows:
            connection.execute(create(world, name, inline=True))
            for row in world.rows[name]:
                marks = ", ".join("?" * len(row))
                columns = ", ".join(quoted(column) for column in row)
                connection.execute(f"INSERT INTO {quoted(name)} ({columns}) VALUES ({marks})", tuple(row.values()))
        connection.commit()
        connection.close()

    def open(self, mode: Mode = Mode.WRITE) -> Database:
        return open_database(str(self.path), mode, 5)

    def read(self, world: World) -> dict[str, list[Row]]:
        connection = sqlite3.connect(self.path)
        connection.row_factory = sqlite3.Row
        found = {
            name: [dict(row) for row in connection.execute(f"SELECT * FROM {quoted(name)}")] for name in world.rows
        }
        connection.close()
        self.path.unlink()
        return found


def quoted(name: str) -> str:
    return '"' + name.replace('"', '""') + '"'


def create(world: World, name: str, inline: bool) -> str:
    """The CREATE TABLE of one table; `inline` with its foreign keys."""
    key = world.keys[name]
    parts = [f"{column} INTEGER NOT NULL" for column in key] + ["u INTEGER UNIQUE"]
    links = [link for link in world.links if link.child == name]
    for link in links:
        for column, may in zip(link.columns, link.nullable, strict=True):
            default = f" DEFAULT {link.default}" if link.default is not None else ""
            parts.append(f"{column} INTEGER{'' if may else ' NOT NULL'}{default}")
    parts.append(f"PRIMARY KEY ({', '.join(key)})")
    if inline:
        for link in links:
            parts.append(
                f"FOREIGN KEY ({', '.join(link.columns)}) REFERENCES {quoted(link.parent)}"
                f" ({', '.join(link.target)}) ON DELETE {link.rule}"
            )
    return f"CREATE TABLE {quoted(name)} ({', '.join(parts)})"
