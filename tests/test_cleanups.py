"""Cleanup files: read strictly, written as they were read, saved from a command line, and run."""

from __future__ import annotations

import datetime
import json
import tomllib
from importlib.resources import files
from pathlib import Path

import jsonschema
import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.conftest import Yeldro, digest
from yeldro.core.cleanup import TYPES, Cleanup, Param, Step, make_schema, read_cleanup
from yeldro.errors import UsageError
from yeldro.store.cleanup_file import load_cleanup, write_cleanup

STEP = '[[steps]]\nname = "a"\ndelete = "stations"\nwhere = "id = 1"\n'
# A file, and what is told of it: the line, the key, and what would be right.
BROKEN = [
    ("title = ", "Mend the file"),
    ('title = "x"', "the whole file: there are no steps"),
    (f'titel = "x"\n{STEP}', "line 1, titel: there is no key 'titel' here. The nearest names are: title"),
    (f"title = 3\n{STEP}", "line 1, title: it must be a text, not 3"),
    (f"{STEP}wher = 3", "line 5, steps[1].wher: there is no key 'wher' here. The nearest names are: where"),
    (f'{STEP}limit = "3"', "line 5, steps[1].limit: it must be a whole number, not '3'"),
    (f"{STEP}limit = -3", "line 5, steps[1].limit: it must be a whole number, not -3"),
    (f"{STEP}orphans = 1", "line 5, steps[1].orphans: it must be true or false, not 1"),
    (f'{STEP}show = [\n  "[a",\n  2,\n]\nmax_share = "2"', "line 9, steps[1].max_share: it must be a number"),
    (f'{STEP}show = [\n  "a",\n  2,\n]', "line 5, steps[1].show: it must be a text or a list of texts"),
    (f'{STEP}expect = "5..2"', "line 5, steps[1].expect: '5..2' is no count and no range"),
    (f"{STEP}dependents = {{ photos = 2 }}", "line 5, steps[1].dependents.photos: it must be a rule"),
    (f"{STEP}{STEP}", "line 6, steps[2].name: there are two steps 'a'"),
    ('[[steps]]\ndelete = "stations"', "line 1, steps[1]: a step needs a name"),
    ('[[steps]]\nname = "a"', 'line 1, steps[1]: a step needs either delete = "TABLE" or dedupe = "TABLE"'),
    ('[[steps]]\nname = "a"\ndedupe = "t"\nsame = "b"', "line 1, steps[1]: dedupe needs keep"),
    (
        '[[steps]]\nname = "a"\ndedupe = "t"\nsame = "b"\nkeep = "fullest"\nfill = "all"',
        'steps[1].fill: it must be true or "blank"',
    ),
    (f'[params.day]\ntype = "dat"\n{STEP}', "line 2, params.day.type: 'dat' is no type; there are text, integer"),
    (f'[params.day]\ntype = "date"\ndefault = "x"\n{STEP}', "line 3, params.day.default: 'x' is not of the type date"),
    (f'[params.a]\nallowed = ["x"]\ndefault = "y"\n{STEP}', "the default is not among the allowed values"),
    (f'[params]\n"a b" = {{}}\n{STEP}', "line 2, params.a b: 'a b' cannot stand behind a colon"),
    (f"[params]\nday = 3\n{STEP}", "line 2, params.day: it must be a table, such as [params.day]"),
    (f"[guards]\nmax_shares = 3\n{STEP}", "line 2, guards.max_shares: there is no key 'max_shares' here"),
    ('steps = "a"', "line 1, steps: it must be a list of steps"),
]


@pytest.mark.parametrize(("text", "said"), BROKEN, ids=[said for _, said in BROKEN])
def test_a_fault_is_told_with_its_line(tmp_path: Path, text: str, said: str) -> None:
    file = tmp_path / "broken.toml"
    file.write_text(text)
    with pytest.raises(UsageError) as error:
        load_cleanup(file)
    assert said in f"{error.value.message}\n{error.value.hint}"


SCHEMA = files("yeldro") / "cleanup.schema.json"


def test_the_schema_for_editors_says_what_the_reader_says() -> None:
    schema = json.loads(SCHEMA.read_text(encoding="utf-8"))
    assert schema == json.loads(json.dumps(make_schema())), "write it anew: ./dev schema"
    judge = jsonschema.Draft202012Validator(schema)
    beyond = (
        "no count and no range",
        "two steps",
        "not of the type",
        "not among",
        "behind a colon",
        "Mend",
        "needs keep",
    )
    for text, said in BROKEN:
        if not any(word in said for word in beyond):
            assert list(judge.iter_errors(tomllib.loads(text))), said
    assert not list(judge.iter_errors(tomllib.loads(STEP)))


NAMES = st.text(
    st.characters(codec="utf-8", exclude_characters="\0", exclude_categories=["Cs"]), min_size=1, max_size=9
)
VALUES = {
    "text": NAMES,
    "integer": st.integers(-(2**63), 2**63 - 1),
    "number": st.floats(allow_nan=False, allow_infinity=False),
    "date": st.dates(),
    "timestamp": st.datetimes(max_value=datetime.datetime(9999, 1, 1)).map(
        lambda moment: moment.replace(microsecond=0)
    ),
    "boolean": st.booleans(),
}


@st.composite
def cleanups(draw: st.DrawFn) -> Cleanup:
    params = []
    for name in draw(st.lists(st.from_regex(r"[a-z_][a-z0-9_]{0,8}", fullmatch=True), max_size=3, unique=True)):
        kind = draw(st.sampled_from(TYPES))
        params.append(Param(name, kind, draw(st.none() | VALUES[kind]), draw(st.just("") | NAMES)))
    texts = NAMES | st.lists(NAMES, min_size=1)
    limits = {"expect": st.integers(0, 9) | st.just("1..5"), "max_rows": st.integers(0), "max_share": VALUES["number"]}
    guards = st.fixed_dictionaries({}, optional={**limits, "strict": texts})
    rules = NAMES | st.dictionaries(NAMES, NAMES)
    common = {**limits, "where": texts, "dependents": rules}
    delete = st.fixed_dictionaries(
        {}, optional={**common, "orphans": st.booleans(), "limit": st.integers(0), "show": texts}
    )
    dedupe = st.fixed_dictionaries(
        {"same": texts, "keep": texts}, optional={**common, "fill": st.sampled_from([True, "blank"])}
    )
    steps = [
        Step(name, verb, draw(NAMES), draw(delete if verb == "delete" else dedupe))
        for name in draw(st.lists(NAMES, min_size=1, max_size=3, unique=True))
        for verb in [draw(st.sampled_from(["delete", "dedupe"]))]
    ]
    return Cleanup(draw(st.just("") | NAMES), "", draw(st.just("") | NAMES), tuple(params), draw(guards), tuple(steps))


@given(cleanups(), st.just("") | NAMES.filter(str.isprintable))
def test_what_is_written_is_read_back(cleanup: Cleanup, about: str) -> None:
    data = tomllib.loads(write_cleanup(cleanup, about))
    assert read_cleanup(data) == (cleanup, [])
    jsonschema.validate(data, make_schema())


def test_a_command_line_is_saved_and_run_again(yeldro: Yeldro, gauges: Path) -> None:
    before = digest(gauges)
    line = ["stations", "--where", "closed_on < :day", "-p", "day=2019-01-01", "--dependents", "photos=detach"]
    assert yeldro("preview", *line, "--save", "closed.toml").status == 0
    assert yeldro("delete", *line, "--save", "closed.toml", "--rehearse").status == 2
    assert yeldro("delete", *line, "--expect", "6", "--save", "closed.toml", "--replace", "--rehearse").status == 0
    saved = load_cleanup(gauges.parent / "closed.toml")
    assert saved.params == (Param("day", "date", datetime.date(2019, 1, 1)),)
    assert saved.steps[0].options == {"where": "closed_on < :day", "dependents": {"photos": "detach"}, "expect": 6}
    assert yeldro("run", "closed.toml", "--rehearse", "-p", "day=2012-01-01").status == 3
    assert yeldro("run", "closed.toml", "--rehearse", "-p", "day=soon").status == 2
    assert yeldro("run", "closed.toml", "--rehearse", "-p", "days=1").status == 2
    assert digest(gauges) == before
    done = json.loads(yeldro("run", "closed.toml", "--yes", "--format", "json").out)
    assert (done["kind"], done["outcome"], done["tally"][-2]["deleted"]) == ("run", "committed", 6)
    same = ["observers", "--same", "email", "--ignore", "case,space", "--keep", "fullest", "--fill", "--expect", "6"]
    assert yeldro("duplicates", *same, "--save", "twice.toml").status == 0
    options = {"same": ["email"], "ignore": ["case", "space"], "keep": ["fullest"], "fill": True, "expect": 6}
    assert load_cleanup(gauges.parent / "twice.toml").steps[0].options == options
    assert "6        6" in yeldro("run", "twice.toml", "--yes").out
    assert "6 surplus rows of observers were expected, there are 0" in yeldro("run", "twice.toml", "--yes").err


def test_from_a_timer(yeldro: Yeldro, gauges: Path) -> None:
    (gauges.parent / "none.toml").write_text('[[steps]]\nname = "a"\ndelete = "stations"\nkey = "99"\n')
    (gauges.parent / "one.toml").write_text('[[steps]]\nname = "a"\ndelete = "readings"\norphans = true\n')
    quiet = yeldro("run", "none.toml", "--yes", "--quiet", "--log", "all.log")
    assert (quiet.status, quiet.out, quiet.err) == (0, "", "")
    assert yeldro("run", "one.toml", "--yes", "--quiet", "--log", "all.log").out.startswith("\nTally")
    assert yeldro("run", "one.toml", "--yes", "--log", "no/such/folder").status == 2
    assert yeldro("run", "one.toml", "--yes", "--db", "none.db", "--log", "all.log").status == 5
    lines = (gauges.parent / "all.log").read_text().splitlines()
    assert [line.split("Z yeldro ")[1].split(" (")[0] for line in lines] == [
        "INFO run none.toml: nothing-matched",
        "INFO run one.toml: committed; deleted 24",
        "ERROR run one.toml: There is no database file none.db.",
    ]


def test_what_a_run_asks_for(yeldro: Yeldro, gauges: Path) -> None:
    (gauges.parent / "two.toml").write_text(
        '[params.id]\ntype = "integer"\nallowed = [1, 2]\n[params.name]\n'
        '[[steps]]\nname = "one"\ndelete = "stations"\nwhere = ["id = :id", "name = :name"]\n'
        '[[steps]]\nname = "other"\ndelete = "stations"\nkey = "3"\n'
    )
    for more, said in (
        ([], "Run one at a time, with --step: one, other"),
        (["--step", "on"], "The nearest names are: one"),
        (["--step", "one"], "The parameter id has no value"),
        (["--step", "one", "-p", "id=1"], "The parameter name has no value"),
        (["--step", "one", "-p", "id=3", "-p", "name=x"], "It is one of 1, 2"),
        (["--step", "one", "-p", "id=x", "-p", "name=x"], "not a valid integer"),
    ):
        result = yeldro("run", "two.toml", "--yes", *more)
        assert (result.status, said in result.err) == (2, True), result.err
    assert yeldro("run", "two.toml", "--rehearse", "--step", "one", "-p", "id=1", "-p", "name=x").status == 0
    told = yeldro("run", "two.toml", "--explain").out
    assert "It deletes the rows of stations for which (id = :id) and (name = :name)" in told
    assert "It may only be 1, 2." in told


def test_the_example_of_the_docs_is_read_explained_and_run(yeldro: Yeldro, gauges: Path) -> None:
    page = (Path(__file__).parent.parent / "docs" / "cleanups.md").read_text(encoding="utf-8")
    (example,) = (part.partition("```")[0] for part in page.split("```toml\n")[1:])
    (gauges.parent / "example.toml").write_text(example)
    told = " ".join(yeldro("run", "example.toml", "--explain").out.split())
    assert "It is only done if these are 1 row or more" in told
    assert "In photos it stays, and its reference is made empty" in told
    assert "keeps one of all that have the same email, but for case, space" in told
    steps = json.loads(yeldro("preview", "example.toml", "--format", "json").out)["steps"]
    assert [(one["step"], one["kind"], one.get("matched", one.get("surplus"))) for one in steps] == [
        ("closed stations", "preview", 6),
        ("observers entered twice", "duplicates", 6),
    ]
    assert "Step 2, observers entered twice" in yeldro("preview", "example.toml").out
    for step, outcome in (("closed stations", "rehearsed"), ("observers entered twice", "rehearsed")):
        done = json.loads(yeldro("run", "example.toml", "--step", step, "--rehearse", "--format", "json").out)
        assert done["outcome"] == outcome, done
