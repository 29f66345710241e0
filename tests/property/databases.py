"""A world made in a real database, and read back row by row."""

from __future__ import annotations

from tests.property.model import Link, Row, World
from tests.servers import Server


def make(server: Server, world: World) -> None:
    """All tables with their rows, then, where the engine can, the references; else they stand in
    the tables."""
    server.clear()
    inline = server.engine == "sqlite"
    statements = ["SET foreign_key_checks = 0"] if server.engine == "mariadb" else []
    statements += _prepare(server, world)
    statements += [_create(server, world, name, inline) for name in world.rows]
    statements += [one for name in world.rows for one in _finish(server, world, name)]
    statements += [_insert(server, name, row) for name in world.rows for row in world.rows[name]]
    if not inline:
        for number, link in enumerate(world.links):
            key = _foreign_key(server, world, number)
            statements.append(
                f"ALTER TABLE {server.quoted(link.child)} ADD CONSTRAINT l{number} {key}"
            )
    server.run(statements)


def read(server: Server, world: World) -> dict[str, list[Row]]:
    found = {}
    for name, rows in world.rows.items():
        columns = list(rows[0])
        listed = ", ".join(map(server.quoted, columns))
        query = f"SELECT {listed} FROM {server.quoted(name)}"
        found[name] = [
            dict(zip(columns, map(_number, row), strict=True)) for row in server.query(query)
        ]
        if name in world.dress.touched:
            query = f"SELECT count(*) FROM {server.quoted(name)} WHERE filled = {columns[0]} + 1"
            assert server.query(query) == [(len(found[name]),)]
    return found


def _number(value: int | str | None) -> int | None:
    return None if value is None else int(value)


def _prepare(server: Server, world: World) -> list[str]:
    used = set(world.dress.u.values()) if server.engine == "postgresql" else set()
    statements = []
    if "depth" in used:
        statements += ["CREATE DOMAIN depth AS INTEGER CHECK (VALUE > 0)"]
    if "far.citext" in used:
        statements += [
            "CREATE SCHEMA IF NOT EXISTS far",
            "CREATE EXTENSION IF NOT EXISTS citext SCHEMA far",
        ]
    return statements


def _finish(server: Server, world: World, name: str) -> list[str]:
    """Partitions, and triggers that fill a column of each row that comes."""
    table, key, statements = server.quoted(name), world.keys[name], []
    if name in world.dress.parts:
        parts = [(server.quoted(f"{name}/{part}"), part) for part in range(2)]
        values = "FOR VALUES WITH (MODULUS 2, REMAINDER {})"
        statements += [
            f"CREATE TABLE {own} PARTITION OF {table} {values.format(part)}" for own, part in parts
        ]
    if name not in world.dress.touched:
        return statements
    trigger, place = (
        server.quoted(f"fill {name}"),
        " AND ".join(f"{column} = NEW.{column}" for column in key),
    )
    update = f"UPDATE {table} SET filled = {key[0]} + 1 WHERE {place}"
    if server.engine == "mariadb":
        return [
            f"CREATE TRIGGER {trigger} BEFORE INSERT ON {table} FOR EACH ROW SET NEW.filled = NEW.{key[0]} + 1"
        ]
    if server.engine == "sqlite":
        return [f"CREATE TRIGGER {trigger} AFTER INSERT ON {table} BEGIN {update}; END"]
    does = f"CREATE FUNCTION {trigger}() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN {update}; RETURN NULL; END $$"
    fires = f"CREATE TRIGGER {trigger} AFTER INSERT ON {table} FOR EACH ROW EXECUTE FUNCTION {trigger}()"
    return [*statements, does, fires]


def _insert(server: Server, name: str, row: Row) -> str:
    columns = ", ".join(map(server.quoted, row))
    values = ", ".join("NULL" if value is None else str(value) for value in row.values())
    return f"INSERT INTO {server.quoted(name)} ({columns}) VALUES ({values})"


def _create(server: Server, world: World, name: str, inline: bool) -> str:
    key = world.keys[name]
    is_whole = name not in world.dress.parts
    parts = [f"{column} INTEGER NOT NULL" for column in key]
    parts += [f"u {world.dress.u.get(name, 'INTEGER')}{' UNIQUE' * is_whole}", "filled INTEGER"]
    for link in world.links:
        if link.child != name:
            continue
        for column, may in zip(link.columns, link.nullable, strict=True):
            default = f" DEFAULT {link.default}" if link.default is not None else ""
            parts.append(
                f"{column} {_type(server, world, link, column)}{'' if may else ' NOT NULL'}{default}"
            )
    parts.append(f"PRIMARY KEY ({', '.join(key)})")
    if inline:
        parts += [
            _foreign_key(server, world, n)
            for n, link in enumerate(world.links)
            if link.child == name
        ]
    ending = "" if is_whole else f" PARTITION BY HASH ({key[0]})"
    return f"CREATE TABLE {server.quoted(name)} ({', '.join(parts)}){ending}"


def _type(server: Server, world: World, link: Link, column: str) -> str:
    if server.engine == "postgresql" and link.target == ("u",):
        return world.dress.u.get(link.parent, "INTEGER")
    return world.dress.links.get(column, "INTEGER")


def _foreign_key(server: Server, world: World, number: int) -> str:
    link = world.links[number]
    return (
        f"FOREIGN KEY ({', '.join(link.columns)}) REFERENCES {server.quoted(link.parent)}"
        f" ({', '.join(link.target)}) ON DELETE {link.rule}"
    )
