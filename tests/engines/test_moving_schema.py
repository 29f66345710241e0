"""The schema changes between what was shown and what is done: nothing goes that was not shown so."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import closing
from pathlib import Path

import pytest

from tests.property.test_laws import Yes
from tests.servers import Server, rows
from yeldro.core.reach.request import Request
from yeldro.core.reach.rules import Rules
from yeldro.core.run.batching import Pace, Progress
from yeldro.core.run.outcome import RunResult
from yeldro.core.run.preview import Preview
from yeldro.core.selection.selection import Asked
from yeldro.store.find_records import find_record
from yeldro.store.run_record import Keeping
from yeldro.usecases import restore as restoring
from yeldro.usecases import run as running

TABLES = [
    "CREATE TABLE weirs (id INTEGER PRIMARY KEY, name VARCHAR(20))",
    "CREATE TABLE gates (id INTEGER PRIMARY KEY, weir_id INTEGER NOT NULL, "
    "FOREIGN KEY (weir_id) REFERENCES weirs (id) ON DELETE CASCADE)",
    "CREATE TABLE towers (id INTEGER PRIMARY KEY)",
    *[f"INSERT INTO weirs VALUES ({n}, 'weir {n}')" for n in range(1, 9)],
    *[f"INSERT INTO gates VALUES ({n}, {n})" for n in range(1, 9)],
]
FUNCTION = (
    "CREATE OR REPLACE FUNCTION f() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN RETURN OLD; END $$"
)
ADDED = {
    "sqlite": ["CREATE TRIGGER t AFTER DELETE ON gates BEGIN SELECT 1; END"],
    "postgresql": [
        FUNCTION,
        "CREATE TRIGGER t BEFORE DELETE ON gates FOR EACH ROW EXECUTE FUNCTION f()",
    ],
    "mariadb": ["CREATE TRIGGER t AFTER DELETE ON gates FOR EACH ROW SET @x = 1"],
}
POINTING = (
    "CREATE TABLE posts (id INTEGER PRIMARY KEY, weir_id INTEGER, FOREIGN KEY (weir_id) "
    "REFERENCES weirs (id) ON DELETE {})"
)
FILLED = "INSERT INTO posts VALUES (7, 7), (8, 8)"
# What somebody does meanwhile, by engine where it is not the same on all, and what is said of it.
CHANGES: dict[str, tuple[dict[str, list[str]] | list[str], str]] = {
    "cascade": ([POINTING.format("CASCADE"), FILLED], "of posts was added to or from weirs"),
    "set null": ([POINTING.format("SET NULL"), FILLED], "of posts was added to or from weirs"),
    "column": (
        ["ALTER TABLE gates ADD COLUMN note VARCHAR(20)", "UPDATE gates SET note = 'precious'"],
        "Column note was added to gates",
    ),
    "renamed": (
        ["ALTER TABLE weirs RENAME COLUMN name TO title"],
        "Column name was dropped from weirs",
    ),
    "trigger": (ADDED, "The trigger t was added to gates"),
    "default": (
        {
            "sqlite": ["ALTER TABLE gates ADD COLUMN depth INTEGER DEFAULT 3"],
            "postgresql": ["ALTER TABLE gates ALTER COLUMN weir_id SET DEFAULT 3"],
            "mariadb": ["ALTER TABLE gates ALTER COLUMN weir_id SET DEFAULT 3"],
        },
        "of gates was changed|Column depth was added to gates",
    ),
    "unique": (["CREATE UNIQUE INDEX u ON gates (weir_id)"], "The unique key u was added"),
    "check": (
        {
            "sqlite": ["ALTER TABLE gates ADD COLUMN x INTEGER CHECK (x > 0)"],
            "postgresql": ["ALTER TABLE gates ADD CONSTRAINT c CHECK (id > 0)"],
            "mariadb": ["ALTER TABLE gates ADD CONSTRAINT c CHECK (id > 0)"],
        },
        "CHECK constraint c was added to gates|Column x was added",
    ),
    "type": (
        {
            "sqlite": ["ALTER TABLE weirs ADD COLUMN g INTEGER AS (id + 1)"],
            "postgresql": ["ALTER TABLE weirs ALTER COLUMN name TYPE VARCHAR(50)"],
            "mariadb": ["ALTER TABLE weirs MODIFY COLUMN name VARCHAR(50)"],
        },
        "Column name of weirs was changed|Column g was added",
    ),
    "policy": (
        {
            "sqlite": ["DROP TABLE gates"],
            "postgresql": ["CREATE POLICY mine ON weirs USING (true)"],
            "mariadb": ["DROP TABLE gates"],
        },
        "policy mine was added to weirs|The table gates was dropped",
    ),
    "rule": (
        {
            "sqlite": ["ALTER TABLE gates RENAME TO doors"],
            "postgresql": ["CREATE RULE r AS ON DELETE TO gates DO INSTEAD NOTHING"],
            "mariadb": ["RENAME TABLE gates TO doors"],
        },
        "The rule r was added to gates|The table gates was dropped",
    ),
}
HARMLESS = [
    "CREATE INDEX fast ON gates (weir_id)",
    "ALTER TABLE towers ADD COLUMN height INTEGER",
    "INSERT INTO weirs VALUES (99, 'new')",
]


class Meanwhile(Yes):
    """Somebody changes the schema while the question is open, or after the first batch."""

    def __init__(self, server: Server, statements: Sequence[str], moment: str) -> None:
        self.server, self.statements, self.moment = server, list(statements), moment

    def allow(self, previews: Sequence[Preview]) -> bool:
        self._change("question")
        return True

    def batch_done(self, progress: Progress) -> None:
        self._change("batch")

    def _change(self, moment: str) -> None:
        if moment == self.moment:
            self.server.run(self.statements)
            self.statements = []


def delete(server: Server, folder: Path, answers: Yes, *, batches: bool = True) -> RunResult:
    manner = running.Manner(pace=Pace(rows=4) if batches else None)
    with closing(server.open(wait=2)) as database:
        request = Request(Asked("weirs", where=("id <= 8",), all_rows=True), Rules())
        keeping = Keeping(folder, facts={"kind": "delete", "address": "", "asked": ""})
        return running.delete(database, request, manner, answers, keeping)


@pytest.mark.parametrize("moment", ["question", "batch", "single"])
@pytest.mark.parametrize("change", CHANGES)
def test_what_changed_since_it_was_shown_stops(
    server: Server, tmp_path: Path, change: str, moment: str
) -> None:
    server.run(TABLES)
    statements, words = CHANGES[change]
    if isinstance(statements, dict):
        statements = statements[server.engine]
    answers = Meanwhile(server, statements, "question" if moment == "single" else moment)
    result = delete(server, tmp_path, answers, batches=moment != "single")
    assert (result.outcome.label, result.status) == ("stopped", 3), result.reason
    assert any(part in result.reason for part in words.split("|")), result.reason
    left = [int(row[0]) for row in server.query("SELECT id FROM weirs ORDER BY id")]
    assert left == list(range(3 if moment == "batch" else 1, 9))
    if "posts" in words:
        assert rows(server, "posts") == [[(7, 7), (8, 8)]]


@pytest.mark.parametrize("change", HARMLESS)
@pytest.mark.parametrize("moment", ["question", "batch"])
def test_what_decides_nothing_stops_nothing(
    server: Server, tmp_path: Path, change: str, moment: str
) -> None:
    server.run(TABLES)
    result = delete(server, tmp_path, Meanwhile(server, [change], moment))
    assert result.outcome.label == "committed", result.reason
    assert [row for row in rows(server, "weirs")[0] if row[0] <= 8] == []


@pytest.mark.parametrize("change", ["column", "cascade", "trigger"])
@pytest.mark.parametrize("pace", [None, Pace(rows=4)])
def test_a_restoration_is_stopped_too(
    server: Server, tmp_path: Path, change: str, pace: Pace | None
) -> None:
    server.run(TABLES)
    delete(server, tmp_path, Yes())
    statements, words = CHANGES[change]
    listed = statements[server.engine] if isinstance(statements, dict) else statements
    wanted = [one for one in listed if one != FILLED]

    class Changing(Yes):
        def allow_restore(self, plan: object) -> bool:
            server.run(wanted)
            return True

    with closing(server.open()) as database:
        record = find_record(tmp_path, "last")
        request = restoring.RestoreRequest(pace=pace)
        result = restoring.restore(database, record, request, Changing())
    assert (result.status, words in result.reason) == (3, True), result
    assert rows(server, "weirs") == [[]]
