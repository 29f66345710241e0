"""Every way to choose rows, on every engine."""

from __future__ import annotations

from typing import Any

import pytest

from tests.property.test_laws import Yes
from tests.servers import Server
from yeldro.core.model.address import PLAIN, read_address
from yeldro.core.reach.request import Request
from yeldro.core.reach.rules import Rule, Rules
from yeldro.core.run.outcome import Outcome, RunResult
from yeldro.core.run.preview import Preview
from yeldro.core.selection.selection import Asked, KeyFile
from yeldro.engines.completion_names import list_names
from yeldro.errors import UsageError, YeldroError
from yeldro.usecases import look as workflow
from yeldro.usecases import run as running
from yeldro.words.tell import tell

TABLES = [
    "CREATE TABLE weirs (id INTEGER PRIMARY KEY, name VARCHAR(9), built DATE, up_id INTEGER, old_id INTEGER,"
     " FOREIGN KEY (up_id) REFERENCES weirs (id))",
    "CREATE TABLE gates (weir_id INTEGER, part VARCHAR(9), label VARCHAR(9), PRIMARY KEY (weir_id, part), UNIQUE (label),"
     " FOREIGN KEY (weir_id) REFERENCES weirs (id))",
    "CREATE TABLE notes (id INTEGER PRIMARY KEY, weir_id INTEGER, first_id INTEGER, name VARCHAR(9),"
     " FOREIGN KEY (first_id) REFERENCES weirs (id), FOREIGN KEY (weir_id) REFERENCES weirs (id))",
    "CREATE VIEW old_weirs AS SELECT id AS number, name FROM weirs WHERE built < '2000-01-01'",
    "CREATE VIEW counted AS SELECT id, count(*) AS n FROM weirs GROUP BY id",
    "CREATE VIEW both_of AS SELECT weirs.id FROM weirs JOIN gates ON gates.weir_id = weirs.id",
    "CREATE VIEW nameless AS SELECT name FROM weirs",
    "INSERT INTO weirs VALUES (1, 'a', '1990-05-01', NULL, 9), (2, 'b', '1999-12-31', 1, NULL),"
     " (3, 'c', '2000-01-01', 2, 1), (4, '', NULL, NULL, 8)",
    "INSERT INTO gates VALUES (1, 'x', 'a'), (1, 'y,z', NULL), (3, 'x', 'c')",
    "INSERT INTO notes VALUES (1, 1, 2, 'a'), (2, 3, 2, NULL)",
]  # fmt: skip


def keys(*lines: str, header: str = "id") -> KeyFile:
    return KeyFile(
        "keys.csv",
        tuple(header.split(",")),
        [(at, line.split(";")) for at, line in enumerate(lines, 2)],
    )


Options = dict[str, Any]
CHOICES: list[tuple[str, Options, list[Any] | str]] = [
    ("weirs", {"keys": ("1", "7")}, [1]),
    ("weirs", {"key_file": keys("2", "3", "2", "77"), "keys": ("4", )}, [2, 3, 4]),
    ("weirs", {"key_file": keys("2", "two")}, "line 3 (id) is not a valid integer"),
    ("weirs", {"key_file": keys("2", header="number")}, "The header of keys.csv is number"),
    ("gates", {"key_file": keys("y,z;1", "x;2", header="part,weir_id")}, [(1, "y,z")]),
    ("gates", {"key_file": keys("c;9", "a;8", "c;7", header="Label,number"), "by": "label"}, [(1, "x"), (3, "x")]),
    ("weirs", {"key_file": keys("a", header="name"), "by": "name"}, "it is not unique there. Unique are: id"),
    ("gates", {"key_file": keys("a", header="label"), "by": "label", "keys": ("1,x", )}, "--by and --key exclude"),
    ("gates", {"keys": ("1,x", ), "by": "label"}, "--by goes with --keys-from"),
    ("gates", {"keys": ('1,"y,z"', "3,x")}, [(1, "y,z"), (3, "x")]),
    ("weirs", {"found_in": "gates"}, [1, 3]),
    ("weirs", {"not_found_in": "gates"}, [2, 4]),
    ("weirs", {"not_found_in": "gates", "where": ("name <> ''", )}, [2]),
    ("weirs", {"found_in": "notes"}, "--on id=first_id or --on id=weir_id"),
    ("weirs", {"found_in": "notes", "on": "id=first_id"}, [2]),
    ("weirs", {"found_in": "gates", "on": "id=weir_id, name=label"}, [1, 3]),
    ("weirs", {"not_found_in": "notes", "on": "name"}, [2, 3, 4]),
    ("weirs", {"found_in": "weirs", "on": "up_id=id"}, [2, 3]),
    ("weirs", {"found_in": "weirs"}, [2, 3]),
    ("gates", {"found_in": "notes"}, "no reference between gates and notes"),
    ("weirs", {"found_in": "gates", "not_found_in": "notes", "on": "id"}, "could belong to several"),
    ("weirs", {"where": ("id = 1", ), "on": "id"}, "--on belongs to"),
    ("notes", {"not_found_in": "weirs", "on": "weir_id=old_id"}, [2]),
    ("weirs", {"orphans": True}, []),
    ("gates", {"orphans": True, "on": "label"}, "references no other table through label"),
    ("old_weirs", {"all_rows": True}, [1, 2]),
    ("old_weirs", {"where": ("number > 1", )}, [2]),
    ("old_weirs", {"where": ("id > 1", )}, "no column 'id' in old_weirs"),
    ("counted", {"all_rows": True}, "it groups rows"),
    ("both_of", {"all_rows": True}, "it joins tables"),
    ("nameless", {"all_rows": True}, "does not show id"),
    ("weirs", {"order_by": "built desc", "limit": 2}, [2, 3]),
    ("weirs", {"order_by": "name", "limit": 2, "found_in": "gates"}, [1, 3]),
]  # fmt: skip


def preview(server: Server, table: str, options: Options) -> Preview:
    database = server.open()
    try:
        return workflow.preview(
            database, Request(Asked(table, **options), Rules(Rule.DELETE), sample=None)
        )
    finally:
        database.close()


@pytest.fixture(scope="module")
def weirs(any_server: Server) -> Server:
    any_server.clear()
    any_server.run(TABLES)
    return any_server


@pytest.mark.parametrize(
    ("table", "options", "expected"), CHOICES, ids=lambda value: str(value)[:50]
)
def test_a_selection(
    weirs: Server, table: str, options: Options, expected: list[Any] | str
) -> None:
    if isinstance(expected, str):
        with pytest.raises(UsageError) as caught:
            preview(weirs, table, options)
        assert expected in f"{caught.value.message} {caught.value.hint}"
        return
    found = preview(weirs, table, options)
    width = len(found.selection.table.key)
    assert [row[0] if width == 1 else row[:width] for row in found.sample] == expected
    assert found.reach.matched == len(expected)


def test_missing_keys_and_nulls_are_told(weirs: Server) -> None:
    found = preview(weirs, "weirs", {"key_file": keys("1", *map(str, range(1000, 1200)), "1000")})
    assert (found.missing, len(found.missing_keys), found.missing_keys[:2]) == (
        200,
        100,
        ((1000,), (1001,)),
    )
    assert (found.repeated, found.selection.unused) == (1, ())
    told = [
        (preview(weirs, "weirs", {way: "weirs", "on": "up_id=id"}).cautions)
        for way in ("found_in", "not_found_in")
    ]
    assert [
        (one.name, one.subject, tell(one.found)[:30])
        for cautions in told
        for one in cautions
        if one.name != "reused-key"
    ] == [("null-reference", "weirs.up_id", "2 rows of weirs hold NULL in u")] * 2
    found_there = preview(weirs, "weirs", {"found_in": "gates"}).cautions
    assert {one.name for one in found_there} <= {"reused-key"}


def test_rows_whose_parent_is_gone(server: Server) -> None:
    off, on = {
        "sqlite": ("PRAGMA foreign_keys = OFF", "SELECT 1"),
        "postgresql": (
            "SET session_replication_role = replica",
            "SET session_replication_role = origin",
        ),
        "mariadb": ("SET foreign_key_checks = 0", "SET foreign_key_checks = 1"),
    }[server.engine]
    server.run(
        *TABLES,
        off,
        "INSERT INTO notes VALUES (3, 99, 1, ''), (4, NULL, 98, ''), (5, NULL, NULL, '')",
        on,
    )
    assert [row[0] for row in preview(server, "notes", {"orphans": True}).sample] == [3, 4]
    assert [
        row[0] for row in preview(server, "notes", {"orphans": True, "on": "first_id"}).sample
    ] == [4]


def test_a_million_keys_take_no_client_memory_and_are_found(server: Server) -> None:
    import resource

    server.run(TABLES)
    before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    lines = ((number, [str(number % 90_000)]) for number in range(100_000))
    found = preview(server, "weirs", {"key_file": KeyFile("keys.csv", ("id",), lines)})
    assert (found.reach.matched, found.missing) == (4, 90_000 - 4)
    assert resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before < 40 * 1024


def test_truncate(server: Server) -> None:
    """Counts and outcome as for a delete; refused where something depends on the table or rows are
    chosen."""
    server.run(TABLES)
    rolls_back = server.engine != "mariadb"

    def truncate(table: str, manner: running.Manner, **options: Any) -> RunResult:
        database = server.open(wait=2)
        try:
            request = Request(Asked(table, truncate=True, **{"all_rows": True, **options}))
            return running.delete(database, request, manner, Yes())
        finally:
            database.close()

    for table, options, said in (
        ("weirs", {}, "gates, notes, weirs references it"),
        ("notes", {"all_rows": False}, "No rows of notes"),
        ("notes", {"where": ("id = 1",)}, "goes with --all-rows"),
        ("old_weirs", {}, "goes with --all-rows"),
    ):
        with pytest.raises(YeldroError, match=said):
            truncate(table, running.Manner(ask_first=False), **options)
    rehearsal = running.Manner(rehearse=True, ask_first=False)
    if rolls_back:
        assert truncate("notes", rehearsal).outcome is Outcome.REHEARSED
    else:
        with pytest.raises(YeldroError, match="cannot be rolled back"):
            truncate("notes", rehearsal)
    assert server.query("SELECT count(*) FROM notes") == [(2,)]
    for asks in (True, False):
        result = truncate("notes", running.Manner(ask_first=asks))
        assert result.outcome is Outcome.COMMITTED, result.reason
        assert server.query("SELECT count(*) FROM notes") == [(0,)]
        assert result.preview is not None
        assert "not-transactional" in [caution.name for caution in result.preview.cautions]
        assert result.tally is not None
        assert [(one.before, one.deleted, one.after) for one in result.tally.lines] == [(2, 2, 0)]
        server.run(["INSERT INTO notes VALUES (1, 1, 2, 'a'), (2, 3, 2, NULL)"])


def test_names_for_completion(weirs: Server) -> None:
    names = list_names(read_address(weirs.place), None, PLAIN)
    assert names["old_weirs"] == ["number", "name"]
    assert names["gates"] == ["weir_id", "part", "label"]
