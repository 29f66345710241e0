"""Hostile conditions, files and command lines by chance, each run by its own process, in bounded
time and memory.

A traceback, a hang, and exit status 1 are faults; so is a process that a signal ended.
"""

from __future__ import annotations

import os
import pkgutil
import random
import resource
import shutil
import signal
import sqlite3
import sys
import time
from collections.abc import Callable
from contextlib import suppress
from importlib import import_module
from pathlib import Path

from tests.servers import Server

import yeldro
from yeldro.cli.command_line import run_command_line

_MEMORY = 2 << 30
_SECONDS = 20
_TABLES = [
    "CREATE TABLE weirs (id INTEGER PRIMARY KEY, name VARCHAR(20), depth FLOAT, built DATE, twin "
    "INTEGER)",
    "CREATE TABLE gates (weir INTEGER REFERENCES weirs (id), part INTEGER, note TEXT, PRIMARY KEY "
    "(weir, part))",
    "INSERT INTO weirs VALUES (1, 'a', 5, '2024-01-31', 2), (2, 'b', NULL, NULL, 1), (3, '', 0, "
    "NULL, NULL)",
    "INSERT INTO gates VALUES (1, 1, 'x'), (1, 2, NULL), (3, 1, 'y')",
]
_PIECES = [
    *(
        "id",
        "name",
        "depth",
        "built",
        "weirs.id",
        '"id"',
        "nosuch",
        ":p",
        "1",
        "0",
        "-1",
        "2.5",
        "'a'",
        "'it''s'",
        "NULL",
    ),
    *(
        "=",
        "<",
        "<>",
        "IN",
        "NOT",
        "AND",
        "OR",
        "BETWEEN",
        "LIKE",
        "IS",
        "EXISTS",
        "CASE",
        "WHEN",
        "END",
        "(",
        ")",
        ",",
    ),
    *(
        "(SELECT weir FROM gates)",
        "count(*)",
        "abs(",
        "random()",
        "1e999",
        "x'00'",
        "||",
        "%",
        "::int",
        "$1",
        "?",
        ";",
    ),
    *(
        "--",
        "/*",
        "*/",
        "\\",
        "'",
        '"',
        "`",
        "[",
        "]",
        "{",
        "\n",
        "\x00",
        "\x1b[2J",
        "\u202e",
        "ö",
        "\udc80",
        "#",
        "$$",
    ),
    *(
        "9" * 30,
        "1" * 5000,
        "(" * 40,
        "INTERVAL",
        "DATE",
        "CAST(id AS TEXT)",
        "COLLATE",
        "OVER ()",
        "@x",
        "@@x",
        "~",
    ),
]
_VALUES = [
    *(
        "1",
        "0",
        "-1",
        "a",
        "",
        "1,1",
        "1,2",
        '"',
        "a\nb",
        "1\n2",
        "\x00",
        "\udc80",
        "NaN",
        "inf",
        "1e400",
        "9" * 25,
    ),
    *(
        "9" * 6000,
        "2024-02-30",
        "9999-12-31",
        "true",
        "x" * 3000,
        "%s",
        ":p",
        "'",
        "../../etc",
        "-",
        "/dev/zero",
    ),
    *(
        "weirs",
        "gates",
        "id",
        "name",
        "weirs.id",
        "all",
        "delete",
        "gates=detach",
        "last",
        "1..",
        "..",
        "5..2",
        "100",
    ),
]
_OPTIONS = [
    *(
        "--where",
        "--key",
        "--keys-from",
        "--by",
        "--found-in",
        "--not-found-in",
        "--on",
        "--order-by",
        "--limit",
        "-p",
    ),
    *(
        "--dependents",
        "--show",
        "--sample",
        "--expect",
        "--max-rows",
        "--max-share",
        "--same",
        "--keep",
        "--ignore",
    ),
    *(
        "--nulls",
        "--fill",
        "--then-unique",
        "--groups",
        "--strict",
        "--archive-table",
        "--leave-out",
        "--wait",
        "--format",
    ),
    *(
        "--save",
        "--step",
        "--allow-function",
        "--dialect",
        "--table",
        "--differing",
        "--log",
        "--confirm",
        "--older-than",
    ),
]
_FLAGS = [
    "--all-rows",
    "--orphans",
    "--truncate",
    "--unparsed",
    "--rehearse",
    "--no-archive",
    "--all",
    "--seal",
    "--replace",
]
_COMMANDS = [
    "survey",
    "preview",
    "delete",
    "duplicates",
    "dedupe",
    "run",
    "review",
    "script",
    "restore",
    "history",
    "map",
]
_CLEANUP = """title = "t"
[params.p]
type = "integer"
default = 1
[guards]
max_rows = 5
[[steps]]
name = "one"
delete = "weirs"
where = ["id = :p"]
dependents = { default = "delete" }
[[steps]]
name = "two"
dedupe = "gates"
same = ["note"]
keep = ["lowest part"]
"""


class Fuzz:
    """Attacks on one database. `seed` makes them again."""

    def __init__(self, server: Server, folder: Path, seed: int) -> None:
        self.server, self.folder, self.chance = server, folder, random.Random(seed)
        self.ways: list[Callable[[], list[str]]] = [
            self._condition,
            self._line,
            self._keys,
            self._cleanup,
            self._archive,
            self._configuration,
            self._script,
        ]
        server.clear()
        server.run(_TABLES)
        for module in pkgutil.walk_packages(yeldro.__path__, "yeldro."):
            if not module.name.endswith("__main__"):
                import_module(module.name)  # so that not every process does
        self._make_record()

    def _make_record(self) -> None:
        line = [
            "delete",
            "weirs",
            "--key",
            "1",
            "--dependents",
            "delete",
            "--yes",
            "--db",
            self.server.place,
        ]
        assert self._run(line) == 0
        (self.record,) = (self.folder / "yeldro-runs").iterdir()
        self.kept = self.folder / "kept"
        self.record.rename(self.kept)

    def attack(self) -> None:
        way = self.chance.choice(self.ways)
        line = [word.replace("\x00", "\x01") for word in way()]
        status = self._run(line)
        told = (self.folder / "told").read_text(errors="replace")
        assert status in (0, 2, 3, 4, 5), (status, line, told[-3000:])
        assert "Traceback" not in told, (line, told[-3000:])

    def _run(self, line: list[str]) -> int:
        """The exit status; negative for the signal that ended it, -99 for a hang."""
        child = os.fork()
        if not child:
            self._become(line)
        end = time.monotonic() + _SECONDS
        while time.monotonic() < end:
            done, status = os.waitpid(child, os.WNOHANG)
            if done:
                return os.waitstatus_to_exitcode(status)
            time.sleep(0.002)
        os.kill(child, signal.SIGKILL)
        os.waitpid(child, 0)
        return -99

    def _become(self, line: list[str]) -> None:
        """Run one command in this process and end it."""
        status = 70
        try:
            os.chdir(self.folder)
            with (
                Path("told").open("w", encoding="utf-8", errors="surrogatepass") as told,
                Path(os.devnull).open() as none,
            ):
                sys.stdin, sys.stdout, sys.stderr = none, told, told
                resource.setrlimit(resource.RLIMIT_AS, (_MEMORY, _MEMORY))
                status = run_command_line(line)
                told.flush()
        finally:
            os._exit(status)

    # What is tried

    def _condition(self) -> list[str]:
        kind = self.chance.random()
        if kind < 0.05:
            many = self.chance.choice([10, 900, 5000])
            text = self.chance.choice([" OR ", " AND "]).join(["id = 1"] * many)
        elif kind < 0.1:
            deep = self.chance.choice([10, 90, 3000])
            text = "(" * deep + "id = 1" + ")" * deep
        else:
            text = " ".join(self.chance.choices(_PIECES, k=self.chance.randint(1, 9)))
        more = self.chance.choice(
            [[], ["--unparsed"], ["-p", "p=1"], ["-p", f"p:integer={self.chance.choice(_VALUES)}"]]
        )
        return [
            self.chance.choice(["preview", "map"]),
            "weirs",
            "--where",
            text,
            *more,
            *self._db(),
        ]

    def _db(self) -> list[str]:
        return ["--db", self.server.place]

    def _line(self) -> list[str]:
        words = [
            self.chance.choice(_COMMANDS),
            self.chance.choice(["weirs", "gates", "c.toml", *_VALUES]),
        ]
        for _ in range(self.chance.randint(0, 4)):
            if self.chance.random() < 0.3:
                words.append(self.chance.choice(_FLAGS))
            else:
                words += [self.chance.choice(_OPTIONS), self.chance.choice(_VALUES)]
        return [
            *words,
            *self.chance.choice([[], ["--format", "json"], ["--format", "csv"]]),
            "--rehearse",
        ][:12] + self._db()

    def _keys(self) -> list[str]:
        lines = ["id", "weir,part", "id,name", "", '"id', "id\r", "\ufeffid"]
        rows = [
            self.chance.choice(lines),
            *self.chance.choices(_VALUES, k=self.chance.randint(0, 9)),
        ]
        data = "\n".join(rows).encode(errors="surrogatepass")
        (self.folder / "k.csv").write_bytes(
            self._spoil(data) if self.chance.random() < 0.5 else data
        )
        name = self.chance.choice(["k.csv", "k.csv", "k.csv", "/dev/zero", "/dev/random", "."])
        return ["preview", self.chance.choice(["weirs", "gates"]), "--keys-from", name, *self._db()]

    def _cleanup(self) -> list[str]:
        text = _CLEANUP
        for _ in range(self.chance.randint(0, 3)):
            lines = text.split("\n")
            place = self.chance.randrange(len(lines))
            deep = self.chance.choice([5, 500, 5000])
            new = [
                f"x = {'[' * deep}{']' * deep}",
                f"x = {'9' * deep}",
                "x = " + " " * deep,
                "[" + " " * deep + "x",
                "x = nan",
            ]
            new += [
                f"{self.chance.choice(_VALUES)!r} = 1",
                f"where = {self.chance.choice(_PIECES)!r}",
                lines[place] * 2,
            ]
            lines[place] = self.chance.choice(
                [*new, "", f"limit = {'9' * 30}", "expect = '1..'", "key = 1979-05-27"]
            )
            text = "\n".join(lines)
        data = text.encode(errors="surrogatepass")
        (self.folder / "c.toml").write_bytes(
            self._spoil(data) if self.chance.random() < 0.3 else data
        )
        return [
            *self.chance.choice(
                [
                    ["run", "c.toml", "--rehearse"],
                    ["run", "c.toml", "--explain"],
                    ["script", "c.toml"],
                ]
            ),
            *self._db(),
        ]

    def _archive(self) -> list[str]:
        copy = self.folder / "copy"
        shutil.rmtree(copy, ignore_errors=True)
        shutil.copytree(self.kept, copy)
        kind = self.chance.random()
        name = self.chance.choice(["rows.sqlite", "run.json"])
        if kind < 0.6:
            (copy / name).write_bytes(self._spoil((copy / name).read_bytes()))
        else:
            with suppress(sqlite3.IntegrityError), sqlite3.connect(copy / "rows.sqlite") as file:
                tables = [
                    row[0]
                    for row in file.execute("SELECT name FROM sqlite_master WHERE type = 'table'")
                ]
                table = self.chance.choice(tables).replace('"', '""')
                if kind < 0.7:
                    file.execute(f'ALTER TABLE "{table}" RENAME TO aside')
                    endless = (
                        "WITH RECURSIVE n (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n) SELECT i "
                        "FROM n"
                    )
                    file.execute(f'CREATE VIEW "{table}" AS {endless}')
                else:
                    (column, *_) = self.chance.choice(
                        list(file.execute(f"SELECT name FROM pragma_table_info('{table}')"))
                    )
                    values = [None, -1, "x", b"\xff", 1e300, "[]", "{}", "[" * 3000, 1 << 62]
                    file.execute(
                        f'UPDATE "{table}" SET "{column}" = ?', (self.chance.choice(values),)
                    )
            file.close()
        return [
            *self.chance.choice([["restore", "copy", "--rehearse"], ["history", "copy"]]),
            *self._db(),
        ]

    def _configuration(self) -> list[str]:
        text = (
            f'default = "d"\n[databases.d]\nurl = "{self.server.place}"\n[[references]]\nfrom = '
            '"weirs.twin"\n'
        )
        text += 'to = "weirs.id"\nrule = "stop"\n'
        (self.folder / "yeldro.toml").write_bytes(self._spoil(text.encode()))
        return [self.chance.choice(["survey", "map"]), *self.chance.choice([[], self._db()])]

    def _script(self) -> list[str]:
        (self.folder / "yeldro.toml").unlink(missing_ok=True)
        text = self.chance.choice(["DELETE FROM weirs WHERE ", "TRUNCATE ", "DELETE ", ""])
        text += " ".join(
            self.chance.choices([*_PIECES, "DELETE FROM gates"], k=self.chance.randint(1, 9))
        )
        (self.folder / "s.sql").write_bytes(text.encode(errors="surrogatepass"))
        return ["review", "s.sql", *self._db()]

    def _spoil(self, data: bytes) -> bytes:
        """With some bytes changed, doubled, or left out."""
        spoilt = bytearray(data)
        for _ in range(self.chance.randint(1, 6)):
            place = self.chance.randrange(len(spoilt) + 1)
            match self.chance.randrange(4):
                case 0 if place < len(spoilt):
                    spoilt[place] = self.chance.randrange(256)
                case 1:
                    del spoilt[place : place + self.chance.randint(1, 40)]
                case 2:
                    spoilt[place:place] = spoilt[place : place + 30]
                case _:
                    spoilt[place:place] = self.chance.choice(
                        [b"\0", b"\xff", b'"', b"\n", b"[", b"9" * 5000]
                    )
        return bytes(spoilt)
