"""Every caution about a condition: when it fires, when it stays silent, on every engine."""

from __future__ import annotations

from contextlib import suppress

import pytest

from tests.servers import Server, label
from yeldro.core.reach.request import Request
from yeldro.core.run.preview import Preview
from yeldro.core.selection.guards import Guards, read_expected
from yeldro.core.selection.selection import Asked
from yeldro.errors import UsageError
from yeldro.usecases import look as workflow
from yeldro.usecases import survey
from yeldro.words.tell import tell

TABLES = [
    "CREATE TABLE weirs (id INTEGER PRIMARY KEY, code VARCHAR(9) NOT NULL UNIQUE, name VARCHAR(20), built DATE,"
    " seen TIMESTAMP NULL, depth {real}, twin_id INTEGER, batch INTEGER NOT NULL)",
    "CREATE TABLE gates (number INTEGER PRIMARY KEY, weir_id INTEGER, twin INTEGER)",
    "INSERT INTO weirs VALUES (1, 'A-1', 'Old Weir', '1990-05-01', '2024-01-05 00:00:00', 0.1, NULL, 1),"
    " (2, 'A_1', 'old weir', '2001-01-01', '2024-01-05 06:00:00', 2.5, 1, 1),"
    " (3, 'B-1', NULL, NULL, '2024-01-04 23:00:00', 0.1, NULL, 2), (4, '12', 'New', '2001-01-01', NULL, 1, 3, 2)",
    "INSERT INTO gates VALUES (1, 1, NULL), (2, NULL, 2), (3, 3, 3), (4, NULL, 5)",
]
SQ, PG, MY = "sqlite", "postgresql", "mariadb"
EVERY = {SQ, PG, MY}

# A condition, the caution, the engines where it fires, and a piece of its message there.
CASES: list[tuple[str, str, set[str], str]] = [
    ("1 = 1 OR id = 1", "always-true", EVERY, "true for every row"),
    ("id = id", "always-true", EVERY, "without a NULL"),
    ("id IN (1, 2) AND EXISTS (SELECT 1 FROM gates WHERE number = 1)", "always-true", EVERY,
     "does not look at the row"),
    ("EXISTS (SELECT 1 FROM gates WHERE gates.weir_id = weirs.id)", "always-true", set(), ""),
    ("id = 1 AND 1 = 2", "always-true", set(), ""),
    ("name = NULL", "never-true", EVERY, "name IS NULL"),
    ("name <> NULL OR id = 1", "never-true", EVERY, "name IS NOT NULL"),
    ("name IS NULL", "never-true", set(), ""),
    ("id NOT IN (SELECT weir_id FROM gates)", "null-in-list", EVERY, "2 rows of the subquery"),
    ("id NOT IN (SELECT number FROM gates)", "null-in-list", set(), ""),
    ("id NOT IN (SELECT weir_id FROM gates WHERE weir_id IS NOT NULL)", "null-in-list", set(), ""),
    ("id IN (SELECT weir_id FROM gates)", "null-in-list", set(), ""),
    ("id NOT IN (1, NULL)", "null-in-list", EVERY, "Take it out"),
    ("twin_id <> 1", "null-left-out", EVERY, "2 rows of weirs hold NULL in twin_id"),
    ("NOT twin_id IN (1, 2)", "null-left-out", EVERY, "2 rows"),
    ("batch <> 1", "null-left-out", set(), ""),
    ("twin_id <> 1 AND seen <> '2024-01-05 00:00:00' OR id = 4", "null-left-out", set(), ""),
    ("id IN (SELECT id FROM gates)", "outer-column", EVERY, "gates has no column id"),
    ("id IN (SELECT weir_id FROM gates WHERE batch = 1)", "outer-column", EVERY, "batch"),
    ("id IN (SELECT weir_id FROM gates WHERE twin = batch)", "outer-column", set(), ""),
    ("EXISTS (SELECT 1 FROM gates AS g WHERE g.weir_id = weirs.id)", "outer-column", set(), ""),
    ("id IN (SELECT number FROM gates)", "outer-column", set(), ""),
    ("id = 1 AND 'nmae' <> 'Old'", "quoted-word", {SQ, MY}, "The nearest column is name"),
    ("id IN (SELECT weir_id FROM gates WHERE \"tvin\" <> 'x')", "quoted-word", {SQ, MY}, "is not a column here but a text"),
    ("name <> 'name'", "quoted-word", set(), ""),
    ("id = 1 OR id = 2 AND batch = 1", "mixed-and-or", EVERY, "id = 1 OR (id = 2 AND batch = 1)"),
    ("id = 1 OR (id = 2 AND batch = 1)", "mixed-and-or", set(), ""),
    ("(id = 1 OR id = 2) AND batch = 1", "mixed-and-or", set(), ""),
    ("id = 9 || batch = 1", "mixed-and-or", {MY}, "means OR"),
    ("code = 12", "text-as-number", {MY}, "turned into a number"),
    ("code = '12'", "text-as-number", set(), ""),
    ("id < 'abc'", "text-as-number", {SQ, MY}, "Compare id with a number"),
    ("coalesce(id, 0) < '0'", "text-as-number", {SQ}, "always less"),
    ("id < '3'", "text-as-number", set(), ""),
    ("built < 2001-01-01", "text-as-number", {SQ, MY}, "not a day. Put it in quotes"),
    ("built < '5/1/2001'", "text-as-number", {SQ, MY}, "the form 2024-01-31"),
    ("built < '2001-01-01'", "text-as-number", set(), ""),
    ("built < 20010101", "text-as-number", {SQ, MY}, "in quotes"),
    ("name = 'OLD WEIR'", "case-blind", {MY}, "'Old Weir', 'old weir'"),
    ("name LIKE 'old weir'", "case-blind", {SQ, MY}, "all match"),
    ("name LIKE 'old%'", "case-blind", set(), ""),
    ("name = 'New'", "case-blind", set(), ""),
    ("code LIKE 'A_1'", "wildcard", EVERY, "1 row matches by that alone"),
    ("code LIKE 'B_1' AND id = 9", "wildcard", EVERY, "ESCAPE"),
    ("code LIKE 'B%'", "wildcard", set(), ""),
    ("code LIKE 'A!_1' ESCAPE '!'", "wildcard", set(), ""),
    ("seen <= '2024-01-05'", "end-of-day", EVERY, "midnight"),
    ("seen BETWEEN '2024-01-01' AND '2024-01-05'", "end-of-day", EVERY, "midnight"),
    ("seen < '2024-01-05'", "end-of-day", set(), ""),
    ("built <= '2024-01-05'", "end-of-day", set(), ""),
    ("depth = 0.1", "approximate-number", {PG, MY}, "small range"),
    ("depth < 0.2", "approximate-number", set(), ""),
    ("{random} < 0.5", "changing-condition", EVERY, "every time"),
    ("seen < CURRENT_TIMESTAMP", "changing-condition", EVERY, "moves on"),
    ("seen < '2024-01-01'", "changing-condition", set(), ""),
]  # fmt: skip
REFUSED = {
    *((PG, where) for where, name, _, _ in CASES if name in ("text-as-number",)),
    (PG, "id = 9 || batch = 1"),
    (PG, "id IN (SELECT weir_id FROM gates WHERE \"tvin\" <> 'x')"),
    (MY, "code = 12"),
    (MY, "built < 2001-01-01"),
    (MY, "id < 'abc'"),
    (MY, "built < '5/1/2001'"),
}


@pytest.fixture(scope="module")
def weirs(any_server: Server) -> Server:
    real = "FLOAT" if any_server.engine == MY else "REAL"
    any_server.clear()
    any_server.run([statement.replace("{real}", real) for statement in TABLES])
    return any_server


def preview(server: Server, where: str, guards: Guards | None = None, **options: object) -> Preview:
    database = server.open()
    try:
        asked = Asked(
            "weirs",
            (where.replace("{random}", "rand()" if server.engine == MY else "random()"),),
            **options,  # type: ignore[arg-type]
        )
        return workflow.preview(database, Request(asked, guards=guards or Guards()))
    finally:
        database.close()


@pytest.mark.parametrize(("where", "name", "engines", "said"), CASES, ids=label)
def test_a_caution(weirs: Server, where: str, name: str, engines: set[str], said: str) -> None:
    found: Preview | None = None
    with suppress(UsageError):  # some engines refuse what others convert
        found = preview(weirs, where)
    if found is None:
        assert (weirs.engine, where) in REFUSED
        return
    told = [tell(one.found) for one in found.cautions if one.name == name]
    assert bool(told) == (weirs.engine in engines), found.cautions
    assert not told or said in told[0]


def test_one_row_is_expected(weirs: Server) -> None:
    one = Guards(read_expected("1"))
    told = [
        any(caution.name == "not-unique" for caution in preview(weirs, where, guards).cautions)
        for where, guards in (
            ("name = 'New'", one),
            ("name = 'New'", Guards(read_expected("1.."))),
            ("code = 'A-1'", one),
            ("id = 1 AND batch = 1", one),
            ("id < 2", one),
        )
    ]
    assert told == [True, False, False, False, True]


def test_rows_like_the_last_one_are_told(weirs: Server) -> None:
    def ties(order: str, limit: int) -> list[str]:
        found = preview(weirs, "id > 0", order_by=order, limit=limit)
        return [tell(one.found) for one in found.cautions if one.name == "ties-at-limit"]

    assert "1 more row has the same built" in ties("built desc", 1)[0]
    assert ties("built desc", 2) == []
    assert ties("built desc", 3) == []
    assert "1 more row" in ties("twin_id", 3)[0]
    assert ties("batch, id", 3) == []


def test_a_strict_caution_stops(weirs: Server) -> None:
    where = "id = 1 OR id = 2 AND batch = 1"
    assert preview(weirs, where).refusals == ()
    assert preview(weirs, where, Guards(strict=frozenset({"never-true"}))).refusals == ()
    assert "--strict mixed-and-or" in tell(
        preview(weirs, where, Guards(strict=frozenset({"mixed-and-or"}))).refusals[0]
    )


def test_a_preview_teaches(weirs: Server) -> None:
    found = preview(weirs, "batch = 1 AND (name LIKE 'Old%' OR id = 2) AND id < 2")
    assert [part.rows for part in found.parts] == [2, 2, 1]
    assert "--key 1 identifies it" in tell(found.hints[0])
    assert preview(weirs, "id = 1").hints == ()
    assert preview(weirs, "id = 1").parts == ()


def test_a_condition_is_sent_as_it_was_written(weirs: Server) -> None:
    """Engines without a boolean type take any number for true."""
    if weirs.engine != PG:
        assert preview(weirs, "batch").reach.matched == 4


def test_a_table_that_cannot_roll_back_is_told(server: Server) -> None:
    if server.engine != MY:
        return  # the others have no such tables
    server.run(
        "CREATE TABLE plain (id INTEGER PRIMARY KEY) ENGINE=MyISAM",
        "CREATE TABLE safe (id INTEGER PRIMARY KEY)",
    )
    database = server.open()
    found = {
        one.table.label: [caution.name for caution in one.cautions]
        for one in survey.survey(database, [])
    }
    database.close()
    assert found == {"plain": ["not-transactional"], "safe": []}
