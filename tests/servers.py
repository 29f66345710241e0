"""The three real engines. Each test module gets a database of its own, which is dropped afterwards."""

from __future__ import annotations

import os
import secrets
import sqlite3
import subprocess
from collections.abc import Iterator, Sequence
from contextlib import closing, contextmanager
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

import psycopg
import pymysql
import pytest

from yeldro.core.database.abilities import Mode
from yeldro.core.database.connection import Database
from yeldro.engines.open import open_database

ENGINES = ["sqlite", "postgresql", "mariadb"]
POSTGRESQL = os.environ.get("YELDRO_TEST_POSTGRESQL", "postgresql://postgres@127.0.0.1:5432")
MARIADB: dict[str, Any] = {
    "host": "127.0.0.1",
    "port": 3306,
    "user": "root",
    "password": "",
    "ssl_disabled": True,
    # Another worker may just be testing what a server does that is read-only.
    "init_command": "SET SESSION tx_read_only = 0",
}


def label(value: object) -> str:
    """The name of a test's parameter, the same in every process."""
    return str(sorted(value) if isinstance(value, set) else value)[:40]


class Server:
    """One database on one engine, filled and read with the plain driver, not with the product."""

    def __init__(self, engine: str, place: str, quote: str) -> None:
        self.engine = engine
        self.place = place
        self.quote = quote

    def connect(self) -> Any:
        """A connection of the plain driver that commits each statement."""
        if self.engine == "sqlite":
            connection = sqlite3.connect(self.place, isolation_level=None)
            connection.execute("PRAGMA synchronous = OFF")  # no test cuts the power
            return connection
        if self.engine == "postgresql":
            return psycopg.connect(self.place, autocommit=True)
        return pymysql.connect(**MARIADB, database=self.place.rpartition("/")[2], autocommit=True)

    def run(self, *given: str | Sequence[str]) -> None:
        statements = [text for one in given for text in ([one] if isinstance(one, str) else one)]
        with closing(self.connect()) as connection, closing(connection.cursor()) as cursor:
            if (
                self.engine == "mariadb"
            ):  # writing the log for each statement is what takes long there
                cursor.execute("SET autocommit = 0")
            for statement in statements:
                cursor.execute(statement)
            if self.engine == "mariadb":
                connection.commit()

    def query(self, statement: str) -> list[tuple[Any, ...]]:
        with closing(self.connect()) as connection, closing(connection.cursor()) as cursor:
            cursor.execute(statement)
            return [tuple(row) for row in cursor.fetchall()]

    def client(
        self, script: str, *, goes_on: bool = False, settings: Sequence[str] = ()
    ) -> subprocess.CompletedProcess[str]:
        """Run a script as a person would, in the engine's own command-line client; one that
        `goes_on` after errors.

        `settings` are options of the client, or, with an equal sign after the name, variables of
        its environment.
        """
        url = urlsplit(self.place) if self.engine != "sqlite" else None
        command = {
            "sqlite": ["sqlite3", self.place],
            "postgresql": [
                "psql",
                "-X",
                "-q",
                *([] if goes_on else ["-v", "ON_ERROR_STOP=1"]),
                self.place,
            ],
            "mariadb": [
                "mariadb",
                "--skip-ssl",
                f"-h{url and url.hostname}",
                f"-P{url and url.port}",
                "-uroot",
            ],
        }[self.engine]
        environment = dict(one.split("=", 1) for one in settings if not one.startswith("-"))
        command += [one for one in settings if one.startswith("-")]
        command += (
            [*(["--force"] if goes_on else []), url.path[1:]]
            if url and self.engine == "mariadb"
            else []
        )
        script = script.replace(".bail on\n", "") if goes_on else script
        written = script.encode(errors="surrogatepass")
        done = subprocess.run(
            command,
            input=written,
            capture_output=True,
            timeout=120,
            env={**os.environ, **environment},
        )
        out, told = done.stdout.decode(errors="replace"), done.stderr.decode(errors="replace")
        return subprocess.CompletedProcess(done.args, done.returncode, out, told)

    def quoted(self, name: str) -> str:
        return self.quote + name.replace(self.quote, self.quote * 2) + self.quote

    def open(self, mode: Mode = Mode.WRITE, wait: float = 5) -> Database:
        return open_database(self.place, mode, wait)

    def clear(self) -> None:
        """Drop all tables."""
        if self.engine == "sqlite":
            Path(self.place).unlink(missing_ok=True)
            Path(self.place).touch()
        elif self.engine == "postgresql":
            self.run(["DROP SCHEMA public CASCADE", "CREATE SCHEMA public"])
        else:
            views = [row[0] for row in self.query("SHOW FULL TABLES WHERE Table_type = 'VIEW'")]
            self.run([f"DROP VIEW {self.quoted(name)}" for name in views])
            names = [self.quoted(row[0]) for row in self.query("SHOW TABLES")]
            self.run(
                "SET foreign_key_checks = 0, lock_wait_timeout = 20",
                *(f"DROP TABLE {', '.join(names)}" for _ in names[:1]),
            )


def rows(server: Server, *tables: str) -> list[list[tuple[Any, ...]]]:
    return [sorted(server.query(f"SELECT * FROM {name}"), key=repr) for name in tables]


@contextmanager
def served(engine: str, folder: Path) -> Iterator[Server]:
    """A new database on an engine. Where the server is missing the test is skipped, or fails under
    CI."""
    name = f"yeldro_test_{secrets.token_hex(4)}"
    if engine == "sqlite":
        server = Server("sqlite", str(folder / f"{name}.db"), '"')
        server.clear()
        yield server
        return
    try:
        if engine == "postgresql":
            admin: Any = psycopg.connect(
                f"{POSTGRESQL}/postgres", autocommit=True, connect_timeout=20
            )
            server = Server(engine, f"{POSTGRESQL}/{name}", '"')
        else:
            admin = pymysql.connect(**MARIADB, autocommit=True, connect_timeout=20)
            server = Server(engine, "mariadb://root@127.0.0.1:3306/" + name, "`")
    except (psycopg.OperationalError, pymysql.err.OperationalError):
        if os.environ.get("CI"):
            raise
        pytest.skip(f"no {engine} server answers on this machine: ./dev db starts one")
    admin.cursor().execute(f"CREATE DATABASE {name}")
    if engine == "postgresql":  # no test cuts the power
        admin.cursor().execute(f"ALTER DATABASE {name} SET synchronous_commit = off")
    try:
        yield server
    finally:
        admin.cursor().execute(
            f"DROP DATABASE {name}" + (" WITH (FORCE)" if engine == "postgresql" else "")
        )
        admin.close()


@contextmanager
def login(server: Server, *grants: str) -> Iterator[str]:
    """A new account with these rights, as an address; `{0}` stands for the database of the test."""
    name, place = f"yt_{server.place[-8:]}", server.place.rpartition("/")[2]
    user, made, ending = f"{name}@'%'", "CREATE USER {}", [f"DROP USER {name}@'%'"]
    if server.engine == "postgresql":
        user, made, ending = (
            name,
            "CREATE ROLE {} LOGIN",
            [f"DROP OWNED BY {name}", f"DROP ROLE {name}"],
        )
    server.run(made.format(user))
    try:
        server.run([f"GRANT {grant.format(place)} TO {user}" for grant in grants])
        yield server.place.replace(f"{urlsplit(server.place).username}@", f"{name}@")
    finally:
        server.run(ending)
