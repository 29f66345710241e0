"""Cleanup files: read strictly, written as they were read, saved from a command line, and run."""

from __future__ import annotations

import datetime
import json
import shlex
import sqlite3
import tomllib
from contextlib import closing
from importlib.resources import files
from pathlib import Path
from typing import Any

import jsonschema
import pytest
from hypothesis import given
from hypothesis import strategies as st
from msgspec.structs import replace

from tests.conftest import Yeldro, digest
from tests.servers import ENGINES, served
from tests.test_deletions import answered
from yeldro.core.cleanup import kinds
from yeldro.core.cleanup.cleanup import Cleanup, Param, Step, as_list
from yeldro.core.cleanup.json_schema import make_schema
from yeldro.core.cleanup.keys import GUARDS, NEEDED, STEP_KEYS, as_keys
from yeldro.core.cleanup.reading import read_cleanup
from yeldro.core.database.abilities import Mode
from yeldro.demo.cleanups import CLEANUPS
from yeldro.errors import UsageError
from yeldro.store.cleanup_file import load_cleanup, rewrite_cleanup, write_cleanup

TWICE = '[[steps]]\nname = "a"\ndedupe = "t"\nsame = "b"\nkeep = "fullest"\n'
STEP = '[[steps]]\nname = "a"\ndelete = "stations"\nwhere = "id = 1"\n'
# A file, and what is told of it: the line, the key, and what would be right.
BROKEN = [
    ("title = ", "line 1, title: invalid value"),
    ('title = "x"', "the whole file: there are no steps"),
    (f'titel = "x"\n{STEP}', "line 1, titel: there is no key 'titel' here. The nearest names are: title"),
    (f"title = 3\n{STEP}", "line 1, title: it must be a text, not 3"),
    (f"{STEP}wher = 3", "line 5, steps[1].wher: there is no key 'wher' here. The nearest names are: where"),
    (f'{STEP}limit = "3"', "line 5, steps[1].limit: it must be a whole number from 1, not '3'"),
    (f"{STEP}limit = -3", "line 5, steps[1].limit: it must be a whole number from 1, not -3"),
    (f"{STEP}orphans = 1", "line 5, steps[1].orphans: it must be true or false, not 1"),
    (f'{STEP}show = [\n  "[a",\n  2,\n]\nmax_share = "2"', "line 9, steps[1].max_share: it must be a number"),
    (f'{STEP}show = [\n  "a",\n  2,\n]', "line 5, steps[1].show: it must be a text or a list of texts, not 2"),
    (f'{STEP}expect = "5..2"', "or \"2..5\", not '5..2'"),
    (f"{STEP}dependents = {{ photos = 2 }}",
     'line 5, steps[1].dependents.photos: it must be "declared", "delete", "detach" or "stop", not 2'),
    (f"{STEP}{STEP}", "line 6, steps[2].name: there are two steps 'a'"),
    ('[[steps]]\ndelete = "stations"', "line 1, steps[1]: a step needs a name"),
    ('[[steps]]\nname = "a"', 'line 1, steps[1]: a step needs either delete = "TABLE", dedupe = "TABLE" or clear = "TABLE"'),
    ('[[steps]]\nname = "a"\ndedupe = "t"\nsame = "b"', "line 1, steps[1]: dedupe needs keep"),
    ('[[steps]]\nname = "a"\ndedupe = "t"\nsame = "b"\nkeep = "fullest"\nfill = "all"',
     'steps[1].fill: it must be true, false or "blank", not'),
    (f'[params.day]\ntype = "dat"\n{STEP}', 'line 2, params.day.type: it must be "text", "integer"'),
    (f'[params.day]\ntype = "date"\ndefault = "x"\n{STEP}', "line 3, params.day.default: 'x' is not of the type date")
     ,
    (f'[params.a]\nallowed = ["x"]\ndefault = "y"\n{STEP}', "the default is not among the allowed values"),
    (f'[params]\n"a b" = {{}}\n{STEP}', "line 2, params.a b: 'a b' cannot stand behind a colon"),
    (f"[params]\nday = 3\n{STEP}", "line 2, params.day: it must be a table, such as [params.day]"),
    (f"[guards]\nmax_shares = 3\n{STEP}", "line 2, guards.max_shares: there is no key 'max_shares' here"),
    ('steps = "a"', "line 1, steps: it must be a list of steps"),
    ('steps = ["a"]', "line 1, steps[1]: it must be a table under [[steps]]"),
    (f"guards = 3\n{STEP}", "line 1, guards: it must be a table, not 3"),
    (f'params = "x"\n{STEP}', "line 1, params: it must be a table of parameters, not 'x'"),
    (f'[guards]\nexpect = "few"\n{STEP}', "not 'few'"),
    (f"[guards]\nmax_rows = 1.5\n{STEP}", "line 2, guards.max_rows: it must be a whole number, not 1.5"),
    (f"[guards]\nstrict = true\n{STEP}", "line 2, guards.strict: it must be the name of a caution, or all, not true"),
    (f"{STEP}where = 3", "line 5, where: this key is already set"),
    (f"{STEP}where = 'x", "line 5, where: expected"),
    (f"{STEP}x", "the end of the file: expected"),
    ('[[steps]]\nname = 3\ndelete = "a"', "line 2, steps[1].name: it must be a text, not 3"),
    ('[[steps]]\nname = "a"\ndelete = "b"\ndedupe = "c"', "a step needs either delete"),
    (f'{STEP}same = "name"', "line 5, steps[1].same: there is no key 'same' here"),
    ('[[steps]]\nname = "a"\ndedupe = "t"\nkeep = "fullest"', "line 1, steps[1]: dedupe needs same"),
    (f'{STEP}max_share = "5 %"', "line 5, steps[1].max_share: it must be a number from 0 to 100, not '5 %'"),
    (f"{STEP}expect = true", "line 5, steps[1].expect: it must be a count or a range in quotes, such as 6"),
    (f"{STEP}all_rows = 1", "line 5, steps[1].all_rows: it must be true or false, not 1"),
    (f"{STEP}dependents = 3", 'steps[1].dependents: it must be "declared", "delete"'),
    (f"{STEP}seal = 3", "line 5, steps[1].seal: it must be a table, not 3"),
    (f"{STEP}seal = {{ rows = 3 }}", "a seal needs fingerprint; yeldro preview FILE --seal writes it"),
    (f'[params.n]\ntype = "integer"\ndefault = true\n{STEP}', "line 3, params.n.default: true is not of the type"),
    (f"[params.n]\nallowed = 3\n{STEP}", "line 2, params.n.allowed: it must be a list of values, not 3"),
    (f"{STEP}max_share = 101", "line 5, steps[1].max_share: it must be a number from 0 to 100, not 101"),
    (f'{STEP}sample = "many"', "line 5, steps[1].sample: it must be a whole number or \"all\", not 'many'"),
    (f'{STEP}dependents = "detatch"', '"detach" or "stop", not \'detatch\''),
    (f'{STEP}strict = ["whole-tabel"]', "not 'whole-tabel'. The nearest names are: whole-table"),
    (f'{TWICE}ignore = "cas"', 'it must be "case", "space" or "accents", not \'cas\''),
    (f'{TWICE}ignore = "case, space"', "not 'case, space'"),
    (TWICE.replace("fullest", "newest a, oldest b"), "not 'newest a, oldest b'"),
    (f'{TWICE}nulls = "sme"', 'line 6, steps[1].nulls: it must be "same" or "different", not \'sme\''),
    (TWICE.replace("fullest", "newest"), "line 5, steps[1].keep: it must be one of fullest, newest COL"),
    (TWICE.replace('"b"', "[]"), "line 4, steps[1].same: it must be a text or a list of texts, not an empty list"),
    (f'{TWICE}dependents = {{ a = "move", default = "stop" }}', 'it does not go with default = "stop"'),
    (f'{TWICE}dependents = "declared"', "\"stop\", not 'declared'"),
    (f"{STEP}limit = 3", 'order_by and limit go together. For example: order_by = "opened_on" limit = 5'),
    (f'{STEP}on = "a"', "line 5, steps[1].on: on belongs to found_in, not_found_in or orphans"),
    (f"{STEP}truncate = true", "steps[1].truncate: truncate = true empties a whole table: it goes with all_rows"),
    ('[[steps]]\nname = "a"\ndelete = "t"', "line 1, steps[1]: no rows of t were chosen. Choose them with where, key")
     ,
    (STEP.replace("id = 1", "id = :day"), "steps[1].where: there is no parameter 'day'; it stands under [params"),
    (f"[params.day]\n{STEP}", "line 1, params.day: the parameter day is never used"),
]  # fmt: skip


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
    beyond = ["'5..2'", "two steps", "not of the type", "not among", "behind a colon", "needs keep"]
    beyond += [
        "invalid value",
        "already set",
        "expected",
        "go together",
        "on belongs",
        "empties",
        "not go with",
    ]
    beyond += ["newest a, oldest b"]
    beyond += ["no rows of", "no parameter", "never used"]
    for text, said in BROKEN:
        if not any(word in said for word in beyond):
            assert list(judge.iter_errors(tomllib.loads(text))), said
    assert not list(judge.iter_errors(tomllib.loads(STEP)))


NAMES = st.text(
    st.characters(codec="utf-8", exclude_characters="\0", exclude_categories=["Cs"]),
    min_size=1,
    max_size=9,
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


PLAIN = NAMES.filter(lambda text: ":" not in text)
TEXTS = PLAIN | st.lists(PLAIN, min_size=1, max_size=3)
# A value of each kind of key.
OF_KIND = {
    kinds.TEXT: NAMES,
    kinds.FLAG: st.booleans(),
    kinds.COUNT: st.integers(0, 2**63 - 1),
    kinds.FIRST: st.integers(1, 2**63 - 1),
    kinds.SHARE: st.floats(0, 100) | st.integers(0, 100),
    kinds.EXPECT: st.integers(0, 9) | st.sampled_from(["1..5", "..3", " 2 .. "]),
    kinds.SAMPLE: st.integers(0) | st.just("all"),
    kinds.SIZE: st.integers(1) | st.just("auto"),
    kinds.TABLE: st.fixed_dictionaries(
        {"matched": st.integers(0), "rows": st.integers(0), "fingerprint": st.just("0f")}
    ),
    kinds.LIST: TEXTS,
    kinds.IGNORE: st.lists(st.sampled_from(["case", "space", "accents"]), min_size=1)
    | st.just("case"),
    kinds.KEEP: st.lists(st.sampled_from(["fullest", "newest a", "where b = 'c, d'"]), min_size=1),
    kinds.STRICT: st.just("all")
    | st.lists(st.sampled_from(["ties-at-limit", "no-key"]), min_size=1),
    STEP_KEYS["dedupe"]["nulls"]: st.sampled_from(["same", "different"]),
    STEP_KEYS["dedupe"]["fill"]: st.sampled_from([True, False, "blank"]),
    STEP_KEYS["clear"]["to"]: st.sampled_from(["null", "blank", "default"]),
    STEP_KEYS["clear"]["dependents"]: st.just("stop") | st.dictionaries(NAMES, st.just("detach")),
    **dict.fromkeys(
        [STEP_KEYS[verb]["dependents"] for verb in ("delete", "dedupe")],
        st.just("delete")
        | st.dictionaries(NAMES | st.just("default"), st.sampled_from(["delete", "stop"])),
    ),
}


@st.composite
def options(draw: st.DrawFn, verb: str, conditions: list[str]) -> dict[str, Any]:
    """Every key of a step now and then, and conditions that say every parameter."""
    known = STEP_KEYS[verb]
    needed = {*NEEDED[verb]} | ({"keep"} & {*known})
    optional = {
        name: OF_KIND[kind] for name, kind in known.items() if name not in ("name", verb, *needed)
    }
    found = draw(
        st.fixed_dictionaries({name: OF_KIND[known[name]] for name in needed}, optional=optional)
    )
    if verb != "dedupe" or conditions:
        found["where"] = [*as_list(found.get("where", "a")), *conditions]
    found.pop("restart_numbers", None)
    if found.pop("truncate", False) and not conditions:
        return {"all_rows": True, "truncate": True}
    for name, others in (
        ("limit", ["order_by"]),
        ("order_by", ["limit"]),
        ("on", ["orphans", "found_in"]),
        ("by", ["keys_from"]),
    ):
        if (
            sum(
                bool(found.get(other))
                for other in [*others, *(["not_found_in"] if name == "on" else [])]
            )
            != 1
        ):
            found.pop(name, None)
    if "by" in found:
        found.pop("key", None)
    return found


@st.composite
def cleanups(draw: st.DrawFn) -> Cleanup:
    params = []
    for name in draw(
        st.lists(st.from_regex(r"[a-z_][a-z0-9_]{0,8}", fullmatch=True), max_size=3, unique=True)
    ):
        kind = draw(st.sampled_from(kinds.TYPES))
        params.append(Param(name, kind, draw(st.none() | VALUES[kind]), draw(st.just("") | NAMES)))
    guards = st.fixed_dictionaries(
        {}, optional={key: OF_KIND[kind] for key, kind in GUARDS.items()}
    )
    used = [f"x = :{one.name}" for one in params]
    steps = [
        Step(name, verb, draw(NAMES), draw(options(verb, used)))
        for name in draw(st.lists(NAMES, min_size=1, max_size=3, unique=True))
        for verb in [draw(st.sampled_from(["delete", "dedupe"]))]
    ]
    return Cleanup(
        draw(st.just("") | NAMES),
        "",
        draw(st.just("") | NAMES),
        tuple(params),
        draw(guards),
        tuple(steps),
    )


@given(cleanups(), st.just("") | NAMES.filter(str.isprintable))
def test_what_is_written_is_read_back(cleanup: Cleanup, about: str) -> None:
    data = tomllib.loads(write_cleanup(cleanup, about))
    read, faults = read_cleanup(data)
    steps = tuple(replace(step, line=0) for step in read.steps)
    assert (replace(read, steps=steps), faults) == (cleanup, [])
    jsonschema.validate(data, make_schema())


def test_a_command_line_is_saved_and_run_again(yeldro: Yeldro, gauges: Path) -> None:
    before = digest(gauges)
    line = [
        "stations",
        "--where",
        "closed_on < :day",
        "-p",
        "day=2019-01-01",
        "--dependents",
        "photos=detach",
    ]
    assert yeldro("preview", *line, "--save", "closed.toml").status == 0
    assert yeldro("delete", *line, "--save", "closed.toml", "--rehearse").status == 2
    assert (
        yeldro(
            "delete", *line, "--expect", "6", "--save", "closed.toml", "--replace", "--rehearse"
        ).status
        == 0
    )
    cautious = [*line, "--strict", "ties-at-limit,no-key", "--save", "cautious.toml"]
    assert yeldro("preview", *cautious).status == 0
    assert load_cleanup(gauges.parent / "cautious.toml").steps[0].options["strict"] == [
        "ties-at-limit",
        "no-key",
    ]
    saved = load_cleanup(gauges.parent / "closed.toml")
    assert saved.params == (Param("day", "date", datetime.date(2019, 1, 1)),)
    assert saved.steps[0].options == {
        "where": "closed_on < :day",
        "dependents": {"photos": "detach"},
        "expect": 6,
    }
    assert yeldro("run", "closed.toml", "--rehearse", "-p", "day=2012-01-01").status == 3
    assert yeldro("run", "closed.toml", "--rehearse", "-p", "day=soon").status == 2
    assert yeldro("run", "closed.toml", "--rehearse", "-p", "days=1").status == 2
    assert digest(gauges) == before
    done = yeldro("run", "closed.toml", "--yes", "--format", "json").document
    assert (done["kind"], done["outcome"], done["tally"][-2]["deleted"]) == ("run", "committed", 6)
    same = [
        "observers",
        "--same",
        "email",
        "--ignore",
        "case,space",
        "--keep",
        "fullest",
        "--fill",
        "--expect",
        "6",
    ]
    assert yeldro("duplicates", *same, "--save", "twice.toml").status == 0
    options = {
        "same": ["email"],
        "ignore": ["case", "space"],
        "keep": ["fullest"],
        "fill": True,
        "expect": 6,
    }
    assert load_cleanup(gauges.parent / "twice.toml").steps[0].options == options
    assert "6        6" in yeldro("run", "twice.toml", "--yes").out
    assert (
        "6 surplus rows of observers were expected, there are 0"
        in yeldro("run", "twice.toml", "--yes").err
    )


def test_paths_in_a_file_count_from_its_folder(yeldro: Yeldro, gauges: Path) -> None:
    folder = gauges.parent / "monthly"
    folder.mkdir()
    (gauges.parent / "keys.csv").write_text("id\n1\n2\n")
    line = ["preview", "alerts", "--keys-from", "keys.csv", "--save", "monthly/alerts.toml"]
    for more, database in (([], "gauges"), (["--db", "gauges.db"], "../gauges.db")):
        assert yeldro(*line, "--replace", *more).status == 0
        saved = load_cleanup(folder / "alerts.toml")
        assert (saved.database, saved.steps[0].options) == (database, {"keys_from": "../keys.csv"})
        done = yeldro("run", "monthly/alerts.toml", "--rehearse", "--format", "json").document
        assert (done["outcome"], done["tally"][0]["deleted"]) == ("rehearsed", 2)
    assert yeldro(*line[:-1], "monthly/sealed.toml", "--seal").status == 0
    from_input = [*line[:3], "-", "--save", "monthly/input.toml", "--seal"]
    assert "looks at the keys again" in yeldro(*from_input).err
    unready = yeldro("duplicates", "observers", "--same", "email", "--save", "monthly/unready.toml")
    assert (unready.status, "dedupe needs keep" in unready.err) == (2, True)
    assert sorted(one.name for one in folder.iterdir()) == [
        "alerts.toml",
        "sealed.seal",
        "sealed.toml",
    ]


def test_from_a_timer(yeldro: Yeldro, gauges: Path) -> None:
    (gauges.parent / "none.toml").write_text(
        '[[steps]]\nname = "a"\ndelete = "stations"\nkey = "99"\n'
    )
    (gauges.parent / "one.toml").write_text(
        '[[steps]]\nname = "a"\ndelete = "readings"\norphans = true\n'
    )
    quiet = yeldro("run", "none.toml", "--yes", "--quiet", "--log", "all.log")
    assert (quiet.status, quiet.out, quiet.err) == (0, "", "")
    assert yeldro("run", "one.toml", "--yes", "--quiet", "--log", "all.log").out.startswith(
        "\nTally"
    )
    assert yeldro("run", "one.toml", "--yes", "--log", "no/such/folder").status == 2
    assert yeldro("run", "one.toml", "--yes", "--db", "none.db", "--log", "all.log").status == 5
    assert yeldro("run", "no.toml", "--yes", "--log", "all.log").status == 2
    full = yeldro("run", "one.toml", "--yes", "--log", "/dev/full")  # as on a full disk
    assert (full.status, "The line could not be added to the log" in full.err) == (0, True), full
    lines = (gauges.parent / "all.log").read_text().splitlines()
    assert [line.split("Z yeldro ")[1].split(" (")[0] for line in lines] == [
        "INFO run none.toml on gauges: nothing-matched",
        "INFO run one.toml on gauges: committed; deleted 24",
        "ERROR run one.toml: There is no database file none.db.",
        "ERROR run no.toml: no.toml cannot be read: No such file or directory.",
    ]


MONTHLY = """
[params.before]
type = "date"
default = "first of month - 1 year"
[[steps]]
name = "old alerts"
delete = "alerts"
where = "raised_at < :before"
"""


def test_a_day_that_moves_is_one_day_in_a_run_and_under_a_seal(
    yeldro: Yeldro, gauges: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    def on(day: str) -> None:
        monkeypatch.setattr(
            "yeldro.core.model.values.find_today", lambda: datetime.date.fromisoformat(day)
        )

    (gauges.parent / "monthly.toml").write_text(MONTHLY)
    on("2027-02-14")
    assert "with before = 2026-02-01" in yeldro("preview", "monthly.toml").out
    assert yeldro("preview", "monthly.toml", "--seal").status == 0
    sealed = digest(gauges)
    on("2028-12-01")
    assert "with before = 2026-02-01" in yeldro("preview", "monthly.toml").out
    moved = yeldro("run", "monthly.toml", "--yes", "-p", "before=today")
    assert (moved.status, digest(gauges)) == (3, sealed)
    done = yeldro("run", "monthly.toml", "--yes", "--log", "all.log")
    assert done.status == 0, done.err
    assert "; before = 2026-02-01; deleted " in (gauges.parent / "all.log").read_text()
    assert "before = 2026-02-01" in yeldro("history", "last").out
    asked = ["preview", "alerts", "--where", "raised_at < :b", "-p", "b=today - 9 years"]
    assert yeldro(*asked, "--save", "saved.toml").status == 0
    assert 'default = "today - 9 years"' in (gauges.parent / "saved.toml").read_text()
    bad = yeldro("run", "monthly.toml", "--yes", "-p", "before=last monday")
    assert (bad.status, "or 'today - 90 days'" in bad.err) == (2, True)


def test_two_runs_at_once_exclude_each_other(
    yeldro: Yeldro, gauges: Path, tmp_path_factory: pytest.TempPathFactory
) -> None:
    """On every engine the second leaves at once, and changes nothing."""
    for engine in ENGINES:
        with served(engine, tmp_path_factory.mktemp(engine)) as server:
            server.run(
                ["CREATE TABLE weirs (id INTEGER PRIMARY KEY)", "INSERT INTO weirs VALUES (1), (2)"]
            )
            (gauges.parent / "weirs.toml").write_text(
                '[[steps]]\nname = "a"\ndelete = "weirs"\nkey = "1"\n'
            )
            other = server.open()
            other.exclude("yeldro run weirs.toml")
            other.begin(Mode.WRITE)
            second = yeldro("run", "weirs.toml", "--yes", "--db", server.place, "--wait", "1")
            assert (second.status, "nother run of this cleanup" in second.err) == (3, True), (
                second.err
            )
            other.rollback()
            other.close()
            assert server.query("SELECT count(*) FROM weirs") == [(2,)]
            assert yeldro("run", "weirs.toml", "--yes", "--db", server.place).status == 0


def test_what_a_run_asks_for(yeldro: Yeldro, gauges: Path) -> None:
    (gauges.parent / "two.toml").write_text(
        '[params.id]\ntype = "integer"\nallowed = [1, 2]\n[params.name]\n'
        '[[steps]]\nname = "one"\ndelete = "stations"\nwhere = ["id = :id", "name = :name"]\n'
        '[[steps]]\nname = "other"\ndelete = "stations"\nkey = "3"\n'
    )
    for more, said in (
        (["--archive-table", "x", "-p", "id=1", "-p", "name=x"], "Run the steps one at a time"),
        (["--step", "on"], "The nearest names are: one"),
        (["--step", "one"], "The parameter id has no value"),
        (["--step", "one", "-p", "id=1"], "The parameter name has no value"),
        (["--step", "one", "-p", "id=3", "-p", "name=x"], "It is one of 1, 2"),
        (["--step", "one", "-p", "id=x", "-p", "name=x"], "not a valid integer"),
    ):
        result = yeldro("run", "two.toml", "--yes", *more)
        assert (result.status, said in result.err) == (2, True), result.err
    assert (
        yeldro(
            "run", "two.toml", "--rehearse", "--step", "one", "-p", "id=1", "-p", "name=x"
        ).status
        == 0
    )
    told = yeldro("run", "two.toml", "--explain").out
    assert "It deletes the rows of stations for which (id = :id) and (name = :name)" in told
    assert "It may only be 1, 2." in told


@pytest.mark.parametrize(
    ("told", "in_file"),
    [
        ("give --all-rows if so", "give all_rows = true if so"),
        (
            "--dependents a=stop or --dependents b.c=delete",
            'dependents = { a = "stop" } or dependents = { "b.c" = "delete" }',
        ),
        ("more than --max-rows 5,000.", "more than max_rows = 5000."),
        ("--key 1,2 names it", 'key = "1,2" names it'),
        ('--order-by "a desc, b" --limit 3.', 'order_by = "a desc, b" limit = 3.'),
        ("leaving out --fill (--strict no-key)", "leaving out fill = true (strict no-key)"),
        ("--no-archive and --wait 3", "--no-archive and --wait 3"),
    ],
)
def test_what_is_said_of_options_is_said_of_keys(told: str, in_file: str) -> None:
    assert as_keys(told) == in_file


def test_all_that_does_not_fit_the_database_is_told_at_once(yeldro: Yeldro, gauges: Path) -> None:
    steps = ['delete = "statoins"\nwhere = "id = 1"', 'delete = "stations"\nwhere = "idd = 1"']
    steps += ['dedupe = "observers"\nsame = "email"\nkeep = "newest of_all"']
    text = "".join(
        f'[[steps]]\nname = "{name}"\n{step}\n' for name, step in zip("abc", steps, strict=True)
    )
    (gauges.parent / "wrong.toml").write_text(text)
    for command in (["preview"], ["run", "--yes"], ["script"]):
        result = yeldro(command[0], "wrong.toml", *command[1:])
        assert result.status == 2
        assert "line 1, step a: There is no table 'statoins' in this database" in result.err
        assert "line 5, step b: There is no column 'idd' in stations" in result.err
        assert "line 9, step c: There is no column 'of_all' in observers" in result.err


def test_every_example_of_the_docs_runs(yeldro: Yeldro, gauges: Path) -> None:
    page = (Path(__file__).parent.parent / "docs" / "cleanups.md").read_text(encoding="utf-8")
    for name, text in {**CLEANUPS, "old.sql": REVIEWED}.items():
        (gauges.parent / name).write_text(text)
    commands = [part.partition("```")[0] for part in page.split("```\nyeldro ")[1:]]
    lines = [
        line.removeprefix("yeldro ") for part in commands for line in part.strip().splitlines()
    ]
    assert len(lines) == 9
    for line in lines:
        result = yeldro(*shlex.split(line))
        assert result.status == (3 if line.startswith("review") else 0), (line, result.err)
    (example,) = (part.partition("```")[0] for part in page.split("```toml\n")[1:])
    assert yeldro("restore", "last", "--yes").status == 0
    (gauges.parent / "example.toml").write_text(example)
    told = " ".join(yeldro("run", "example.toml", "--explain").out.split())
    assert "It is only done if these are 1 row or more" in told
    assert "In photos it stays, and its reference is made empty" in told
    assert "keeps one of all that have the same email, ignoring case and spaces" in told
    steps = yeldro("preview", "example.toml", "--format", "json").document["steps"]
    assert [
        (one["step"], one["kind"], one.get("matched", one.get("surplus"))) for one in steps
    ] == [
        ("closed stations", "preview", 6),
        ("observers entered twice", "duplicates", 6),
        ("old remarks", "preview", 19),
    ]
    assert "Step 2, observers entered twice" in yeldro("preview", "example.toml").out
    done = yeldro("run", "example.toml", "--yes", "--format", "json").document
    assert [one["matched"] for one in done["steps"]] == [6, 6, 14]


STEPS = """
# Twice a year.
title = "Rivers that nobody measures"   # a title of ours
[guards]
max_rows = 5000
[[steps]]
name = "closed"
delete = "stations"
where = "closed_on < '2019-01-01'"   # long ago
dependents = { photos = "detach" }
[[steps]]
name = "rivers"
delete = "rivers"
not_found_in = "stations"
dependents = "delete"
[[steps]]
name = "orphans"
delete = "readings"
orphans = true
"""


@pytest.fixture
def steps(gauges: Path) -> Path:
    """A cleanup whose second step only finds rows once the first is done: all of a river's stations
    are closed."""
    with sqlite3.connect(gauges) as connection:
        connection.execute("INSERT INTO rivers SELECT 99, 'Nethe', code FROM regions LIMIT 1")
        connection.execute("UPDATE stations SET river_id = 99 WHERE id = 10")
    file = gauges.parent / "steps.toml"
    file.write_text(STEPS)
    return file


def test_each_step_sees_what_those_before_it_did(yeldro: Yeldro, gauges: Path, steps: Path) -> None:
    before = digest(gauges)
    ahead = yeldro("preview", "steps.toml", "--format", "json").document
    assert [one["matched"] for one in ahead["steps"]] == [6, 0, 24]
    for guard, status in (
        ("expect = 31", 0),
        ("expect = 30", 3),
        ("max_rows = 3075", 0),
        ("max_rows = 3074", 3),
    ):
        steps.write_text(STEPS.replace("max_rows = 5000", guard))
        done = yeldro("run", "steps.toml", "--rehearse", "--format", "json").document
        assert (done["outcome"], guard) == ("rolled-back" if status else "rehearsed", guard), done[
            "reason"
        ]
    assert digest(gauges) == before
    steps.write_text(STEPS)
    done = yeldro("run", "steps.toml", "--yes", "--format", "json").document
    assert [(one["step"], one["matched"]) for one in done["steps"]] == [
        ("closed", 6),
        ("rivers", 1),
        ("orphans", 24),
    ]
    total = {line["table"]: line["deleted"] for line in done["tally"]}
    assert (total["stations"], total["rivers"], total["readings"]) == (6, 1, 2912 + 24)
    record = json.loads((gauges.parent / "yeldro-runs" / done["run"] / "run.json").read_text())
    assert [(one["step"], one["matched"]) for one in record["steps"]] == [
        ("closed", 6),
        ("rivers", 1),
        ("orphans", 24),
    ]
    assert yeldro("restore", "last", "--yes", "--format", "json").document["outcome"] == "committed"
    restored = digest(gauges)
    assert yeldro("restore", "last", "--yes").status == 0
    assert digest(gauges) == restored
    alone = yeldro(
        "run", "steps.toml", "--step", "orphans", "--rehearse", "--format", "json"
    ).document
    assert (alone["tally"][0]["deleted"], "steps" in alone) == (24, False)


@pytest.mark.parametrize(
    ("answers", "status", "said"),
    [(b"y\ny\n", 0, "All steps"), (b"y\nn\n", 4, "Declined"), (b"n\n", 4, "Declined")],
)
def test_rows_that_an_earlier_step_brings_are_asked_for(
    steps: Path, answers: bytes, status: int, said: str
) -> None:
    before = digest(steps.parent / "gauges.db")
    found, told = answered(steps.parent, ["run", "steps.toml", "--db", "gauges.db"], answers)
    assert (found, said in told, "1 row of it was not shown" in told) == (
        status,
        True,
        answers != b"n\n",
    ), told
    assert (digest(steps.parent / "gauges.db") == before) == bool(status)


def test_a_missing_value_is_asked_for_on_a_terminal(gauges: Path) -> None:
    (gauges.parent / "asks.toml").write_text(
        "[params.day]\ntype = 'date'\nask = 'Closed before which day?'\n"
        + STEP.replace('"id = 1"', '"closed_on < :day"\ndependents = { photos = "detach" }')
    )
    line = ["run", "asks.toml", "--db", "gauges.db"]
    status, told = answered(gauges.parent, line, b"2013-01-01\ny\n", b"Closed before which day?")
    assert (status, "1 of 42 rows match" in told, "Committed" in told) == (0, True, True), told
    assert answered(gauges.parent, line, b"soon\n", b"Closed before which day?")[0] == 2


def test_a_value_that_no_chosen_step_needs_is_not_missed(yeldro: Yeldro, steps: Path) -> None:
    steps.write_text(
        f"{STEPS}{STEP.replace('id = 1', 'closed_on < :day')}[params.day]\ntype = 'date'\n"
    )
    assert yeldro("run", "steps.toml", "--step", "rivers", "--rehearse").status == 0
    result = yeldro("run", "steps.toml", "--rehearse")
    assert (result.status, "The parameter day has no value" in result.err) == (2, True)


def test_a_sealed_cleanup_runs_only_on_what_was_sealed(
    yeldro: Yeldro, gauges: Path, steps: Path
) -> None:
    steps.write_text(
        STEPS.replace('[[steps]]\nname = "rivers"', '[[steps]]\nname = "rivers"  # none today')
    )
    assert yeldro("preview", "steps.toml", "--seal").status == 0
    text = steps.read_text()
    assert all(
        comment in text
        for comment in ("# Twice a year.", "# a title of ours", "# long ago", "# none today")
    )
    assert [step.seal.matched for step in load_cleanup(steps).steps if step.seal] == [6, 0, 24]
    before = digest(gauges)
    result = yeldro("run", "steps.toml", "--yes")
    assert (result.status, "1 row of it is not under its seal" in result.err) == (3, True), (
        result.err
    )
    assert digest(gauges) == before
    assert yeldro("run", "steps.toml", "--step", "closed", "--rehearse").status == 0
    with sqlite3.connect(gauges) as connection:
        connection.execute("UPDATE stations SET name = 'Larkwater at Old Mill' WHERE id = 15")
    assert yeldro("run", "steps.toml", "--step", "closed", "--rehearse").status == 0, (
        "contents are not sealed"
    )
    with sqlite3.connect(gauges) as connection:
        connection.execute("UPDATE stations SET closed_on = NULL WHERE id = 15")
        connection.execute("UPDATE stations SET closed_on = '2018-01-01' WHERE id = 2")
    before = digest(gauges)
    for command in (
        ["preview", "steps.toml"],
        ["run", "steps.toml", "--yes"],
        ["run", "steps.toml", "--rehearse"],
    ):
        found = yeldro(*command, "--show-changes", "--format", "json")
        changes = json.loads(found.out)
        changes = (changes["steps"][0] if "steps" in changes else changes)["changes"]
        assert (found.status, digest(gauges)) == (3, before)
        assert [
            (one["action"], one["keys"]) for one in (changes["came"][0], changes["went"][0])
        ] == [
            ("delete stations", ["2"]),
            ("delete stations", ["15"]),
        ]
    told = yeldro("run", "steps.toml", "--step", "closed", "--yes", "--show-changes")
    assert "came  delete stations" in told.out
    assert "It was sealed with 6 matched rows, and 6 match now" in told.err
    (gauges.parent / "steps.seal").unlink()
    assert "which ones came and went is not known" in yeldro("run", "steps.toml", "--yes").err
    assert yeldro("preview", "steps.toml", "--seal").status == 0
    assert yeldro("run", "steps.toml", "--step", "closed", "--rehearse").status == 0


def test_a_seal_tells_matched_rows_from_those_that_depend_on_them(
    yeldro: Yeldro, tmp_path_factory: pytest.TempPathFactory
) -> None:
    """The same rows would go, but another one of them was asked for."""
    for engine in ENGINES:
        with served(engine, tmp_path_factory.mktemp(engine)) as server:
            key = "FOREIGN KEY (up_id) REFERENCES weirs (id) ON DELETE CASCADE"
            server.run(
                [f"CREATE TABLE weirs (id INTEGER PRIMARY KEY, old INTEGER, up_id INTEGER, {key})"]
            )
            server.run(["INSERT INTO weirs VALUES (1, 1, NULL), (2, 1, 1), (3, 0, 1)"])
            line = [
                "preview weirs --where",
                "old = 1",
                "--all-rows",
                "--save",
                "weirs.toml",
                "--seal",
                "--replace",
            ]
            assert yeldro(*line, "--db", server.place).status == 0
            again = ["run", "weirs.toml", "--rehearse", "--db", server.place, "--format", "json"]
            assert yeldro(*again).status == 0
            server.run(["UPDATE weirs SET old = 1 - old WHERE id > 1"])
            result = yeldro(*again)
            changes = json.loads(result.out)["changes"]
            assert (
                result.status,
                sorted((one["action"], *one["keys"]) for one in changes["came"]),
            ) == (
                3,
                [("delete weirs", "3"), ("delete weirs, hanging on them", "2")],
            )


def test_a_file_that_is_saved_again_keeps_what_a_person_wrote(yeldro: Yeldro, gauges: Path) -> None:
    line = [
        "delete stations --where",
        "closed_on < :day",
        "-p",
        "day=2019-01-01",
        "--dependents",
        "photos=detach",
    ]
    assert yeldro(*line, "--save", "a.toml", "--seal", "--rehearse").status == 0
    file = gauges.parent / "a.toml"
    text = (
        file.read_text()
        .replace("Rows of stations", "Closed for good")
        .replace("[[steps]]", "# mine\n[[steps]]")
    )
    file.write_text(text.replace("[params.day]", "# the day\n[params.day]\nask = 'Which day?'"))
    line[1] = "closed_on <= :day"
    assert yeldro(*line, "--expect", "6", "--save", "a.toml", "--replace", "--rehearse").status == 0
    text, saved = file.read_text(), load_cleanup(file)
    assert (saved.title, saved.params[0].ask, saved.steps[0].seal) == (
        "Closed for good",
        "Which day?",
        None,
    )
    assert (saved.steps[0].options["where"], saved.steps[0].options["expect"]) == (
        "closed_on <= :day",
        6,
    )
    assert "# mine" in text
    assert "# the day" in text
    assert yeldro("preview", "stations", "--key", "1", "--seal").status == 2


@given(cleanups(), cleanups(), st.booleans())
def test_what_is_written_anew_is_read_back(old: Cleanup, new: Cleanup, same_steps: bool) -> None:
    if same_steps:
        both = zip(old.steps, new.steps, strict=False)
        steps = tuple(
            replace(one, options=other.options) for one, other in both if one.verb == other.verb
        )
        old, new = replace(old, steps=old.steps[: len(steps)]), replace(new, steps=steps)
    if new.steps:
        found, faults = read_cleanup(tomllib.loads(rewrite_cleanup(write_cleanup(old, "x"), new)))
        in_order = [
            replace(one, params=tuple(sorted(one.params, key=lambda p: p.name)))
            for one in (found, new)
        ]
        assert (in_order[0], faults) == (in_order[1], [])


REVIEWED = """
DELETE FROM stations WHERE closed_on < '2012-06-01';
DELETE FROM photos WHERE visit_id IN (SELECT v.id FROM visits v JOIN stations s ON v.station_id = s.id
  WHERE s.closed_on < '2012-06-01');
UPDATE stations SET name = 'x';
DELETE FROM alerts AS a WHERE a.level_m > 900;
"""


def test_what_somebody_wrote_becomes_a_cleanup(yeldro: Yeldro, gauges: Path) -> None:
    script = gauges.parent / "old.sql"
    script.write_text(REVIEWED)
    assert yeldro("review", "old.sql", "--save", "old.toml").status == 3
    saved = load_cleanup(gauges.parent / "old.toml")
    assert [(step.name, step.table) for step in saved.steps] == [
        ("line 3", "photos"),
        ("line 2", "stations"),
        ("line 6", "alerts"),
    ]
    text = (gauges.parent / "old.toml").read_text()
    assert "# Not turned, line 5 (only DELETE and TRUNCATE can be judged): UPDATE stations" in text
    assert "# In the script: 2 rows of photos block the delete" in text
    assert yeldro("review", "old.sql", "--save", "old.toml").status == 2
    done = yeldro("run", "old.toml", "--rehearse", "--format", "json").document
    assert [(one["step"], one["matched"]) for one in done["steps"]] == [
        ("line 3", 2),
        ("line 2", 1),
        ("line 6", 0),
    ]
    script.write_text("UPDATE stations SET name = 'x'")
    assert yeldro("review", "old.sql", "--save", "new.toml").status == 2


WRITTEN = [
    "it's 50% off; -- \\ $yeldro$ :x",
    "$$;\nCOMMIT;",
    "two\n.quit\n\\q",
    "/* x",
    "\\",
    "'\" `",
    "\\';",
    "é😀",
    "{0}%s",
]


def test_a_script_takes_any_text(
    yeldro: Yeldro,
    tmp_path_factory: pytest.TempPathFactory,
    tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    """In values, in names of steps and of tables, whatever it means to a client, and whatever the
    client's locale."""
    monkeypatch.setenv("LC_ALL", "C")
    params = tuple(Param(f"p{place}", "text", text) for place, text in enumerate(WRITTEN))
    name = "odd é; -- $yeldro$ '%"
    steps = [
        Step(f"{one.default}".replace("\n", " "), "delete", name, {"where": f"t = :{one.name}"})
        for one in params
    ]
    (tmp_path / "texts.toml").write_text(write_cleanup(Cleanup(params=params, steps=tuple(steps))))
    for engine in ENGINES:
        with served(engine, tmp_path_factory.mktemp(engine)) as server:
            table = server.quoted(name)
            server.run([f"CREATE TABLE {table} (id INTEGER PRIMARY KEY, t VARCHAR(90))"])
            with closing(server.connect()) as connection, closing(connection.cursor()) as cursor:
                mark = "?" if engine == "sqlite" else "%s"
                into = f"INSERT INTO {table.replace('%', '%%') if engine != 'sqlite' else table} VALUES ({mark}, {mark})"
                cursor.executemany(into, list(enumerate([*WRITTEN, "another"])))
            script = yeldro("script", "texts.toml", "--db", server.place, "--archive-table", "kept")
            assert script.status == 0, script.err
            others = {
                "mariadb": ["--default-character-set=latin1"],
                "postgresql": ["PGCLIENTENCODING=LATIN1"],
            }
            done = server.client(script.out, settings=others.get(engine, []))
            assert (done.returncode, done.stderr) == (0, "")
            assert server.query(f"SELECT id FROM {table}") == [(len(WRITTEN),)]


def test_a_script_makes_new_tables_only(yeldro: Yeldro, gauges: Path) -> None:
    file = gauges.parent / "alerts.toml"
    file.write_text('[[steps]]\nname = "a"\ndelete = "alerts"\nwhere = "id < 3"\n')
    taken = yeldro("script", "alerts.toml", "--archive-table", "Removals")
    assert (taken.status, "There is a table Removals already." in taken.err) == (3, True), taken.err


def test_a_script_knows_its_rows(
    yeldro: Yeldro, tmp_path_factory: pytest.TempPathFactory, tmp_path: Path
) -> None:
    """Run twice it would take the next rows of an order, as many as before: it must not."""
    (tmp_path / "oldest.toml").write_text(
        '[[steps]]\nname = "a"\ndelete = "weirs"\norder_by = "depth"\nlimit = 2\n'
        '[[steps]]\nname = "b"\ndelete = "gates"\norder_by = "name"\nlimit = 1\n'
        '[[steps]]\nname = "c"\ndelete = "gates"\nkey = ["c;%", "\'x"]\n'
    )
    for engine in ENGINES:
        with served(engine, tmp_path_factory.mktemp(engine)) as server:
            server.run(
                "CREATE TABLE weirs (id INTEGER PRIMARY KEY, depth INTEGER)",
                "INSERT INTO weirs VALUES (1, 5), (2, 4), (3, 3), (4, 2), (5, 1), (6, 0)",
                "CREATE TABLE gates (name VARCHAR(20) PRIMARY KEY)",
                "INSERT INTO gates VALUES ('a''--b'), ('b'), ('c;%')",
            )
            script = yeldro("script", "oldest.toml", "--no-archive", "--db", server.place)
            assert script.status == 0, script.err
            second = yeldro(
                "script", "oldest.toml", "--no-archive", "--db", server.place, "--step", "b"
            ).out
            assert server.client(script.out).stderr == ""
            left = [
                server.query("SELECT id FROM weirs ORDER BY id"),
                server.query("SELECT name FROM gates ORDER BY 1"),
            ]
            assert left == [[(1,), (2,), (3,), (4,)], [("b",)]]
            for text in (script.out, second):
                assert server.client(text).returncode != 0
            assert server.query("SELECT id FROM weirs ORDER BY id") == left[0]
            assert server.query("SELECT name FROM gates ORDER BY 1") == left[1]
