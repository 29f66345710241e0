"""The law of clearing: it ends where the engine's own UPDATE ends, or changes nothing where that
fails, and can be taken back."""

from __future__ import annotations

import re
import sqlite3
import tempfile
from pathlib import Path
from typing import Any

import psycopg
import pymysql
from hypothesis import event, given
from hypothesis import strategies as st

from tests.property.test_laws import Yes, take_back
from tests.property.test_laws import records as records
from tests.property.test_laws import server as server
from tests.servers import Server, rows
from yeldro.core.clearing.request import ClearRequest, Emptiness
from yeldro.core.run.batching import Pace
from yeldro.core.selection.selection import Asked
from yeldro.errors import UsageError
from yeldro.store.run_record import Keeping
from yeldro.usecases import run as running

TABLES = ["locks", "gates", "pins"]
RULES = ["NO ACTION", "RESTRICT", "CASCADE", "SET NULL"]
CHECKS = ["size IS NOT NULL OR mark IS NOT NULL", "code IS NULL OR size > 0", "mark <> ''"]
COLUMNS = ["code", "mark", "size", "up", "name"]


@st.composite
def schemas(draw: st.DrawFn) -> list[str]:
    """Three tables: what points at them, by which rule, and what must hold there."""
    unique = draw(st.sampled_from(["", ", UNIQUE (mark, size)", ", UNIQUE (size)"]))
    check = draw(st.sampled_from(["", *(f", CHECK ({one})" for one in CHECKS)]))
    default = draw(st.sampled_from(["", " DEFAULT 'B'", " DEFAULT 'none'"]))
    own, first, second = (draw(st.sampled_from(RULES)) for _ in range(3))
    required = draw(st.sampled_from(["", " NOT NULL"])) if first != "CASCADE" else ""
    required = required if first != "SET NULL" else ""
    return [
        f"CREATE TABLE locks (id INTEGER PRIMARY KEY, code VARCHAR(9){default} UNIQUE, mark VARCHAR(9),"
        f" size INTEGER DEFAULT 1, up VARCHAR(9), name VARCHAR(9) DEFAULT 'no' NOT NULL,"
        f" FOREIGN KEY (up) REFERENCES locks (code) ON UPDATE {own}{check}{unique})",
        f"CREATE TABLE gates (id INTEGER PRIMARY KEY, code VARCHAR(9){required} UNIQUE,"
        f" FOREIGN KEY (code) REFERENCES locks (code) ON UPDATE {first})",
        f"CREATE TABLE pins (id INTEGER PRIMARY KEY, code VARCHAR(9),"
        f" FOREIGN KEY (code) REFERENCES gates (code) ON UPDATE {second})",
    ]


@st.composite
def worlds(draw: st.DrawFn) -> list[str]:
    codes = draw(st.lists(st.sampled_from(["A", "B", "C", "D", ""]), min_size=1, unique=True))
    value, number = st.sampled_from([None, "", "  ", "x", "no"]), st.sampled_from([None, 0, 1, 2])
    maybe = st.none() | st.sampled_from(codes)
    made = [
        (n, code, draw(value), draw(number), draw(maybe), draw(st.sampled_from(["no", "", "y"])))
        for n, code in enumerate([*codes, None], 1)
    ]
    gates = draw(st.lists(st.sampled_from(codes), max_size=3, unique=True))
    pins = draw(st.lists(st.sampled_from(gates), max_size=3)) if gates else []
    lines = [f"locks (id, code, mark, size, up, name) VALUES {_write(row)}" for row in made]
    lines = sorted(lines, key=lambda line: ", NULL, '" not in line)
    lines += [f"gates VALUES {_write((n, code))}" for n, code in enumerate(gates, 1)]
    lines += [f"pins VALUES {_write((n, code))}" for n, code in enumerate(pins, 1)]
    return [f"INSERT INTO {line}" for line in lines]


def _write(row: tuple[Any, ...]) -> str:
    cells = ("NULL" if cell is None else repr(cell) for cell in row)
    return f"({', '.join(cells)})"


WHERE = ["id < 3", "size = 1", "code = 'A'", "up IS NULL", "id > 0", "mark IS NULL"]


@given(data=st.data())
def test_clearing_ends_where_an_update_ends(
    server: Server, records: Path, data: st.DataObject
) -> None:
    schema, inserts = data.draw(schemas()), data.draw(worlds())
    columns = tuple(
        data.draw(st.lists(st.sampled_from(COLUMNS), min_size=1, max_size=2, unique=True))
    )
    to, where = data.draw(st.sampled_from(list(Emptiness))), data.draw(st.sampled_from(WHERE))

    def fill() -> None:
        server.clear()
        server.run(schema)
        for line in inserts:  # those that a CHECK or a reference refuses are not there
            try_to_run(server, line)

    fill()
    before = rows(server, *TABLES)
    values = {"size": "1", "name": "'no'", "code": find_default(schema[0])}
    texts = {Emptiness.NULL: "NULL", Emptiness.BLANK: "''"}
    new = [f"{name} = {texts.get(to) or values.get(name, 'NULL')}" for name in columns]
    failed = try_to_run(server, f"UPDATE locks SET {', '.join(new)} WHERE {where}")
    after = rows(server, *TABLES)
    fill()
    keeping = Keeping(
        Path(tempfile.mkdtemp(dir=records)), facts={"kind": "clear", "asked": "", "address": ""}
    )
    request = ClearRequest(Asked("locks", where=(where,), all_rows=True), columns=columns, to=to)
    database = server.open()
    try:
        manner = running.Manner(pace=data.draw(st.sampled_from([None, Pace(1), Pace(2)])))
        result = running.clear(database, request, manner, Yes(), keeping)
    except UsageError:
        assert failed or to is Emptiness.BLANK or after == before, "the engine had no objection"
        event("refused by the schema")
        return
    finally:
        database.close()
    if result.outcome is not running.Outcome.COMMITTED:
        assert rows(server, *TABLES) == before
        # A value that would be handed down, or both ends at once, are stops although they could be.
        careful = ["the new value too", "would be detached"]
        could = not failed and after != before and not {"code", "up"} <= {*columns}
        event(f"{result.outcome.label}, {'by us' if could else 'by the engine too'}")
        assert not could or any(text in result.reason for text in careful), result.reason
        # Known beforehand, and not only refused in the middle.
        assert result.outcome is not running.Outcome.ROLLED_BACK, result.reason
        return
    event("committed")
    # MariaDB itself hands nothing down within a table.
    assert not failed or (server.engine == "mariadb" and "FOREIGN KEY (`up`)" in failed), failed
    assert failed or rows(server, *TABLES) == after
    for outcome in (running.Outcome.COMMITTED, running.Outcome.NOTHING_TO_RESTORE):
        assert take_back(server, keeping) is outcome
        assert rows(server, *TABLES) == before


def find_default(schema: str) -> str:
    found = re.search(r"code VARCHAR\(9\) DEFAULT ('\w+')", schema)
    return found[1] if found else "NULL"


def try_to_run(server: Server, statement: str) -> str:
    """What the engine says against a statement, "" where it does it."""
    try:
        server.run(
            statement if server.engine != "sqlite" else ["PRAGMA foreign_keys = ON", statement]
        )
    except (sqlite3.Error, psycopg.Error, pymysql.Error) as error:
        return str(error) or "failed"
    return ""
