"""Scripts with a planted mistake each, and some without: what a review finds, on every engine."""

from __future__ import annotations

import json

import pytest

from tests.conftest import Yeldro
from tests.servers import Server, label
from yeldro.core.review.verdict import Review
from yeldro.usecases import review as workflow
from yeldro.words.tell import tell

TABLES = [
    "CREATE TABLE weirs (id INTEGER PRIMARY KEY, code VARCHAR(9) NOT NULL, built DATE)",
    "CREATE TABLE gates (id INTEGER PRIMARY KEY, weir_id INTEGER, FOREIGN KEY (weir_id) REFERENCES weirs (id))",
    "CREATE TABLE marks (id INTEGER PRIMARY KEY, gate_id INTEGER, n INTEGER,"
    " FOREIGN KEY (gate_id) REFERENCES gates (id) ON DELETE CASCADE)",
    "CREATE TABLE raws (weir VARCHAR(9), n INTEGER)",
    "INSERT INTO weirs VALUES (1, 'a', '1990-01-01'), (2, 'a', '1991-01-01'), (3, 'b', '2005-01-01'),"
    " (4, 'c', '2006-01-01')",
    "INSERT INTO gates VALUES (1, 1), (2, 1), (3, 3), (4, NULL)",
    "INSERT INTO marks VALUES (1, 1, 5), (2, 1, 6), (3, 3, 7)",
]
SQ, PG, MY = "sqlite", "postgresql", "mariadb"
EVERY = {SQ, PG, MY}
GOOD = "DELETE FROM gates WHERE weir_id = 1; DELETE FROM weirs WHERE id = 1;"
COPIES = "SELECT code FROM weirs GROUP BY code HAVING count(*) > 1"

# A script, the engines in whose dialect it is written, how many rows each statement matches (None:
# not judged), and what is found at which statement.
SCRIPTS: list[tuple[str, set[str], list[int | None], list[str]]] = [
    (GOOD, EVERY, [2, 1], ["", ""]),
    ("BEGIN; -- both\n" + GOOD + " COMMIT;", EVERY, [None, 2, 1, None], ["", "", "", ""]),
    ("DELETE FROM weirs WHERE id = 1;\nDELETE FROM gates WHERE weir_id = 1;", EVERY, [1, 2], [
     "Line 2 removes these rows, but later", ""]),
    ("DELETE FROM weirs WHERE id = 3;", EVERY, [1], ["1 row of gates blocks the delete"]),
    ("DELETE FROM weirs WHERE id = 2 OR id = 4 AND code = 'c'", EVERY, [2], ["mixed-and-or"]),
    ("DELETE FROM marks;", EVERY, [3], ["whole-table"]),
    ("DELETE FROM marks WHERE n = NULL", EVERY, [0], ["never-true"]),
    ("DELETE FROM weirs WHERE id NOT IN (SELECT weir_id FROM gates)", EVERY, [0], ["null-in-list"]),
    ("DELETE FROM marks WHERE gate_id IN (SELECT gate_id FROM gates)", EVERY, [3], ["outer-column"]),
    ("DELETE FROM marks WHERE code = 'a'", EVERY, [None], ["no column 'code' in marks"]),
    ("DELETE FROM weird WHERE id = 1", EVERY, [None], ["no table 'weird'"]),
    ("DELETE FROM marks WHERE n = 5;\n\nDELETE FROM marks WHERE n < 7;", EVERY, [1, 2], ["",
     "1 of its 2 rows is gone"]),
    ("DELETE FROM gates WHERE id = 3; DELETE FROM marks WHERE gate_id IN (SELECT id FROM gates WHERE weir_id = 3)",
     EVERY, [1, 1], ["", "reads gates, from which line 1 has removed"]),
    (f"DELETE FROM weirs WHERE id > 1 AND code IN ({COPIES}) OR id = 1", EVERY, [2], ["every copy in 1 group"]),
    ("DELETE FROM weirs AS w WHERE EXISTS (SELECT 1 FROM weirs AS b WHERE b.code = w.code AND b.id <> w.id)", {SQ, PG}
     , [2], ["every copy in 1 group"]),
    ("DELETE FROM weirs AS w WHERE EXISTS (SELECT 1 FROM weirs AS b WHERE b.code = w.code AND b.id < w.id)", {SQ, PG},
     [1], [""]),
    ("DELETE FROM weirs AS w USING weirs AS b WHERE b.code = w.code AND b.id < w.id", {PG}, [1], [""]),
    ("DELETE w FROM weirs AS w JOIN weirs AS b ON b.code = w.code WHERE b.id <> w.id", {MY}, [2], ["every copy"]),
    ("DELETE w FROM weirs AS w JOIN weirs AS b ON b.code = w.code WHERE b.id < w.id", {MY}, [1], [""]),
    ("DELETE FROM marks ORDER BY n DESC LIMIT 2", {MY}, [2], [""]),
    ("WITH old AS (SELECT id FROM gates WHERE weir_id = 1) DELETE FROM marks WHERE gate_id IN (SELECT id FROM old)", {
     SQ, PG}, [2], [""]),
    ("DELETE w, g FROM weirs AS w JOIN gates AS g ON g.weir_id = w.id", {MY}, [None], ["several tables at once"]),
    ("DELETE FROM raws WHERE n = 1", {MY}, [0], [""]),
    ("DELETE FROM marks WHERE n = 5 /*! OR 1=1 */;\nDELETE FROM marks WHERE n = 5", {MY}, [None, 1], ["runs", ""]),
    ("-- nothing else\n/*M!100000 DELETE FROM marks */", {MY}, [None], ["a comment that the database runs"]),
    ("DELETE FROM raws WHERE weir = '/*! */' /* plain */", {MY}, [0], [""]),
    ("DELETE FROM marks WHERE n = (SELECT n FROM marks WHERE n > 4); DELETE FROM marks WHERE n = 5", {PG, MY}, [None,
     1], ["database", ""]),
    ("WITH x AS (DELETE FROM marks RETURNING n) DELETE FROM gates WHERE id IN (SELECT n FROM x)", {PG}, [None], [
     "changes rows too"]),
    ("TRUNCATE marks, raws", {PG}, [3, 0], ["whole-table", ""]),
    ("TRUNCATE gates, marks, weirs", {PG}, [4, 3, 4], ["whole-table", "whole-table", "whole-table"]),
    ("TRUNCATE gates", {PG}, [4], ["TRUNCATE is refused or cascades, because marks references it"]),
    ("TRUNCATE weirs CASCADE", {PG}, [4, 4, 3], ["whole-table", "whole-table", "whole-table"]),
    ("DELETE FROM marks WHERE +n = '5'", {SQ}, [0], [""]),
    ("TRUNCATE TABLE gates", {PG, MY}, [4], ["because marks references it"]),
    ("TRUNCATE TABLE marks", {PG, MY}, [3], ["whole-table"]),
    ("UPDATE marks SET n = 1; SELECT 1;", EVERY, [None, None], ["only DELETE and TRUNCATE", ""]),
    ("DELETE FRM marks", EVERY, [None], ["FRM"]),
    ("DELETE FROM marks WHERE n = 'x", EVERY, [None], ["not closed"]),
]  # fmt: skip


def found(review: Review) -> list[str]:
    """Everything that a review says of each statement, in one text."""
    return [
        " ".join(
            [
                one.unjudged,
                *map(tell, one.faults),
                *(caution.name for caution in one.doubts),
                *(tell(note) for note in one.notes if note.kind != "review.truncate"),
            ]
        ).strip()
        for one in review.verdicts
    ]


@pytest.fixture(scope="module")
def weirs(any_server: Server) -> Server:
    any_server.clear()
    any_server.run(TABLES)
    return any_server


@pytest.mark.parametrize(("script", "engines", "matched", "said"), SCRIPTS, ids=label)
def test_a_script(
    weirs: Server, script: str, engines: set[str], matched: list[int | None], said: list[str]
) -> None:
    if weirs.engine not in engines:
        return
    database = weirs.open()
    review = workflow.review(database, script, None)
    database.close()
    assert [
        None if one.unjudged else one.reach and one.reach.matched for one in review.verdicts
    ] == matched
    for text, wanted in zip(found(review), said, strict=True):
        assert wanted in text
        assert bool(wanted) == bool(text), text
    late = "removes these rows, but later" in " ".join(said)
    assert [one.line for one in review.proposed] == ([2, 1] if late else [])
    assert weirs.query("SELECT count(*) FROM weirs") == [(4,)]


def test_the_command(yeldro: Yeldro, gauges: object) -> None:
    from pathlib import Path

    folder = Path(str(gauges)).parent
    (folder / "good.sql").write_text("DELETE FROM alerts WHERE id = 1;\n")
    (folder / "bad.sql").write_text(
        "\nDELETE FROM alerts\nWHERE 1 = 1;\nDELETE [id] FROM alerts;\n"
    )
    assert yeldro("review", "good.sql").status == 0
    result = yeldro("review", "bad.sql", "--format", "json")
    document = json.loads(result.out)
    assert result.status == 3
    assert [(one["line"], one["matched"]) for one in document["statements"]] == [
        (2, 126),
        (4, None),
    ]
    assert {one["name"] for one in document["statements"][0]["cautions"]} == {
        "always-true",
        "whole-table",
    }
    assert yeldro("review", "nowhere.sql").status == 2
    assert "no dialect" in yeldro("review", "good.sql", "--dialect", "klingon").err
    assert yeldro("review", "good.sql", "--dialect", "tsql").status == 0
