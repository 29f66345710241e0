"""Conditions that nobody would write: a preview changes nothing, a deletion changes what it said
and nothing else."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import closing
from typing import Any

import pytest
from hypothesis import example, given
from hypothesis import strategies as st

from tests.property.test_laws import Yes
from tests.servers import ENGINES, Server, served
from yeldro.core.database.abilities import Mode
from yeldro.core.reach.request import Request
from yeldro.core.reach.rules import Rule, Rules
from yeldro.core.run.outcome import Outcome
from yeldro.core.selection.selection import Asked
from yeldro.errors import YeldroError
from yeldro.usecases import look as workflow
from yeldro.usecases import run as running

TABLES = [
    "CREATE TABLE weirs (id INTEGER PRIMARY KEY, name VARCHAR(20), depth INTEGER)",
    "CREATE TABLE gates (id INTEGER PRIMARY KEY, weir_id INTEGER, FOREIGN KEY (weir_id) REFERENCES weirs (id))",
    "CREATE TABLE aside (id INTEGER PRIMARY KEY)",
]
FILL = [
    "DELETE FROM gates",
    "DELETE FROM weirs",
    "INSERT INTO weirs VALUES (1, 'a', 5), (2, 'b', NULL), (3, 'it''s', 5), (4, '', 0), (5, NULL, 1)",
    "INSERT INTO gates VALUES (1, 1), (2, 1), (3, 4)",
]
SMUGGLED = [
    *"'\"`#\x00\nö",
    *(
        ") OR (1 = 1",
        "; DELETE FROM aside",
        "; DELETE FROM aside; --",
        ") -- ",
        " /* all */ ",
        "/*! or 1=1 */",
    ),
    *(
        "\\' OR 1=1 -- ",
        "''",
        "$$",
        "; COMMIT; DELETE FROM aside",
        ") RETURNING (id",
        " UNION SELECT 1 ",
        ":x",
        "%s",
    ),
]
COLUMNS = st.sampled_from(["id", "name", "depth", "weirs.id", '"id"', "weir_id", "nosuch"])
VALUES = st.sampled_from(
    [
        "1",
        "0",
        "5",
        "'a'",
        "''",
        "'it''s'",
        "NULL",
        "-1",
        "2.5",
        "TRUE",
        "(SELECT weir_id FROM gates)",
    ]
)
ATOMS = st.one_of(
    st.builds(
        "{} {} {}".format, COLUMNS, st.sampled_from(["=", "<", "<>", ">=", "LIKE", "IS"]), VALUES
    ),
    st.builds("{} IN ({}, {})".format, COLUMNS, VALUES, VALUES),
    st.builds("{} NOT IN (SELECT {} FROM gates)".format, COLUMNS, COLUMNS),
    st.builds("EXISTS (SELECT 1 FROM gates WHERE weir_id = {})".format, COLUMNS),
    st.builds("{} BETWEEN {} AND {}".format, COLUMNS, VALUES, VALUES),
    st.sampled_from(["1 = 1", "depth", "name || 'x' = 'ax'", "abs(depth) > 1", "writes()"]),
)
TREES = st.recursive(
    ATOMS,
    lambda inner: st.one_of(
        st.builds("{} {} {}".format, inner, st.sampled_from(["AND", "OR"]), inner),
        st.builds("({})".format, inner),
        st.builds("NOT ({})".format, inner),
    ),
    max_leaves=4,
)


@st.composite
def conditions(draw: st.DrawFn) -> str:
    """A condition, at times with something smuggled into the middle of it."""
    text = draw(TREES)
    for _ in range(draw(st.integers(0, 2))):
        place = draw(st.integers(0, len(text)))
        text = text[:place] + draw(st.sampled_from(SMUGGLED)) + text[place:]
    return text


@pytest.fixture(scope="module", params=ENGINES)
def server(
    request: pytest.FixtureRequest, tmp_path_factory: pytest.TempPathFactory
) -> Iterator[Server]:
    with served(request.param, tmp_path_factory.mktemp("fuzz")) as found:
        found.run(TABLES)
        if found.engine == "postgresql":
            body = "BEGIN DELETE FROM aside; RETURN true; END"
            found.run(
                [f"CREATE FUNCTION writes() RETURNS boolean LANGUAGE plpgsql AS $$ {body} $$"]
            )
        if found.engine == "mariadb":
            found.run(
                ["CREATE FUNCTION writes() RETURNS INT BEGIN DELETE FROM aside; RETURN 1; END"]
            )
        found.run(["INSERT INTO aside VALUES (1), (2)"])
        yield found


@pytest.fixture(scope="module")
def plain(server: Server) -> Iterator[Any]:
    """A cursor beside the product, for the whole module: connecting takes longer than looking."""
    with closing(server.connect()) as connection:
        yield connection.cursor()


def image(plain: Any) -> list[list[tuple[Any, ...]]]:
    images = []
    for name in ("weirs", "gates", "aside"):
        plain.execute(f"SELECT * FROM {name} ORDER BY id")
        images.append([tuple(row) for row in plain.fetchall()])
    return images


@example(text="id = 1 AND writes()", unparsed=False, at_once=True)
@example(text="id = 1) OR (1 = 1", unparsed=True, at_once=True)
@example(text="id = 9 /*! or 1=1 */", unparsed=False, at_once=True)
@example(text="name = 'a\\' or 1=1 -- '", unparsed=True, at_once=True)
@given(text=conditions(), unparsed=st.booleans(), at_once=st.booleans())
def test_any_condition(
    server: Server, plain: Any, text: str, unparsed: bool, at_once: bool
) -> None:
    for statement in FILL:
        plain.execute(statement)
    before = image(plain)
    request = Request(Asked("weirs", (text,), unparsed=unparsed), Rules(Rule.DELETE), sample=None)
    database = server.open(Mode.WRITE)
    database.allow_functions(["writes"])  # so that what it does is noticed
    try:
        matched = {row[0] for row in workflow.preview(database, request).sample}
    except YeldroError:
        matched = None
    assert image(plain) == before
    try:
        result = running.delete(database, request, running.Manner(ask_first=not at_once), Yes())
        outcome = result.outcome
    except YeldroError:
        outcome = Outcome.STOPPED
    finally:
        database.close()
    after = image(plain)
    if outcome is Outcome.COMMITTED:
        assert matched is not None
        assert [row for row in before[0] if row[0] not in matched] == after[0]
        assert [row for row in before[1] if row[1] not in matched] == after[1]
        assert after[2] == before[2]
    else:
        assert after == before
