"""A world made in a real database, and read back row by row."""

from __future__ import annotations

from tests.property.model import Row, World
from tests.servers import Server


def make(server: Server, world: World) -> None:
    """All tables with their rows, then, where the engine can, the references; else they stand in the tables."""
    server.clear()
    inline = server.engine == "sqlite"
    statements = ["SET foreign_key_checks = 0"] if server.engine == "mariadb" else []
    statements += [_create(server, world, name, inline) for name in world.rows]
    statements += [_insert(server, name, row) for name in world.rows for row in world.rows[name]]
    if not inline:
        for number, link in enumerate(world.links):
            key = _foreign_key(server, world, number)
            statements.append(f"ALTER TABLE {server.quoted(link.child)} ADD CONSTRAINT l{number} {key}")
    server.run(statements)


def read(server: Server, world: World) -> dict[str, list[Row]]:
    found = {}
    for name, rows in world.rows.items():
        columns = list(rows[0])
        listed = ", ".join(map(server.quoted, columns))
        query = f"SELECT {listed} FROM {server.quoted(name)}"
        found[name] = [dict(zip(columns, row, strict=True)) for row in server.query(query)]
    return found


def _insert(server: Server, name: str, row: Row) -> str:
    columns = ", ".join(map(server.quoted, row))
    values = ", ".join("NULL" if value is None else str(value) for value in row.values())
    return f"INSERT INTO {server.quoted(name)} ({columns}) VALUES ({values})"


def _create(server: Server, world: World, name: str, inline: bool) -> str:
    key = world.keys[name]
    parts = [f"{column} INTEGER NOT NULL" for column in key] + ["u INTEGER UNIQUE"]
    for link in world.links:
        if link.child != name:
            continue
        for column, may in zip(link.columns, link.nullable, strict=True):
            default = f" DEFAULT {link.default}" if link.default is not None else ""
            parts.append(f"{column} INTEGER{'' if may else ' NOT NULL'}{default}")
    parts.append(f"PRIMARY KEY ({', '.join(key)})")
    if inline:
        parts += [_foreign_key(server, world, n) for n, link in enumerate(world.links) if link.child == name]
    return f"CREATE TABLE {server.quoted(name)} ({', '.join(parts)})"


def _foreign_key(server: Server, world: World, number: int) -> str:
    link = world.links[number]
    return (
        f"FOREIGN KEY ({', '.join(link.columns)}) REFERENCES {server.quoted(link.parent)}"
        f" ({', '.join(link.target)}) ON DELETE {link.rule}"
    )
