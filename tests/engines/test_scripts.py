"""Scripts of every kind of selection and of duplicates, run in the engine's own client."""

from __future__ import annotations

import re
from contextlib import closing
from pathlib import Path

import pytest
import tomlkit

from tests.conftest import Yeldro
from tests.servers import Server

TABLES = [
    "CREATE TABLE marks (code VARCHAR(9), n INTEGER)",
    "INSERT INTO marks VALUES ('a', 1), ('a', 1), ('a', 1), (NULL, 2), (NULL, 2), ('b', 1), ('b', 2)",
    "CREATE TABLE gates (id INTEGER PRIMARY KEY, name VARCHAR(20), m INTEGER)",
    "INSERT INTO gates VALUES (1, 'weir', NULL), (2, 'Weir ', 5), (3, 'WEIR', 6), (4, 'weir', 7), (5, 'x', 1)",
    "CREATE TABLE pins (id INTEGER PRIMARY KEY, gate_id INTEGER, FOREIGN KEY (gate_id) REFERENCES gates (id))",
    "INSERT INTO pins VALUES (1, 1), (2, 2), (3, 4), (4, NULL)",
    "CREATE VIEW old_gates AS SELECT * FROM gates WHERE id > 2",
]
# A step; whether a script of it can be undone on MariaDB.
STEPS = {
    'dedupe = "marks"\nsame = "all"': True,
    'dedupe = "marks"\nsame = "code"\nkeep = "highest n"\nnulls = "same"': True,
    'dedupe = "gates"\nsame = "name"\nkeep = "lowest id"\nthen_unique = "gates_once"': True,
    'dedupe = "gates"\nsame = "name"\nignore = ["case", "space", "accents"]\nkeep = "lowest id"\nfill = true': True,
    'delete = "old_gates"\nall_rows = true\ndependents = "delete"': True,
    'delete = "gates"\norder_by = "name desc"\nlimit = 2\ndependents = "detach"': True,
    'delete = "pins"\nfound_in = "gates"': True,
    'delete = "gates"\nnot_found_in = "pins"': True,
    'delete = "marks"\nall_rows = true\ntruncate = true': False,
    'delete = "marks"\nwhere = "n = 1"': True,
    'clear = "gates"\nwhere = "id > 1"\ncolumns = ["name", "m"]': True,
    'clear = "gates"\nkey = "1"\ncolumns = "name"\nto = "blank"': True,
}


def image(server: Server, *names: str) -> list[list[str]]:
    return [sorted(map(str, server.query(f"SELECT * FROM {name}"))) for name in names]


@pytest.mark.parametrize("step", STEPS)
def test_a_script_does_what_the_run_does(
    server: Server, yeldro: Yeldro, tmp_path: Path, step: str
) -> None:
    names = ("marks", "gates", "pins")
    (tmp_path / "one.toml").write_text(f'[[steps]]\nname = "a"\n{step}\n')
    server.clear()
    server.run(TABLES)
    before = image(server, *names)
    done = yeldro("run", "one.toml", "--yes", "--db", server.place)
    if server.engine == "mariadb" and not STEPS[step]:
        assert (done.status, yeldro("script", "one.toml", "--db", server.place).status) == (0, 3)
        return
    assert done.status == 0, done.err
    after = image(server, *names)
    assert after != before
    server.clear()
    server.run(TABLES)
    script = yeldro("script", "one.toml", "--db", server.place)
    assert (script.status, image(server, *names)) == (0, before), script.err
    ran = server.client(script.out)
    assert (ran.returncode, ran.stderr) == (0, ""), script.out
    assert image(server, *names) == after
    table = step.split('"')[1].removeprefix("old_")
    (kept,) = image(server, "kept_one")
    gone = [row[:-1] for row in before[names.index(table)] if row not in after[names.index(table)]]
    assert [row for row in gone if not any(one.startswith(f"{row}, ") for one in kept)] == []
    if "all" in step and "dedupe" in step:
        assert [row.rpartition(",")[0] for row in kept] == ["('a', 1", "('a', 1", "(None, 2"]


@pytest.mark.parametrize("goes_on", [False, True])
def test_a_script_that_fails_changes_nothing(
    server: Server, yeldro: Yeldro, tmp_path: Path, goes_on: bool
) -> None:
    """Neither before the check that fails nor after it, whatever the client does then."""
    truncate = "truncate = true\n" if server.engine != "mariadb" else ""
    steps = [
        'delete = "gates"\nwhere = "id < 3"\ndependents = "detach"\n',
        f'delete = "pins"\nall_rows = true\n{truncate}',
        f'delete = "pins"\nall_rows = true\n{truncate}',
        'dedupe = "marks"\nsame = "all"\n',
    ]
    text = "".join(f'[[steps]]\nname = "{number}"\n{step}' for number, step in enumerate(steps))
    (tmp_path / "steps.toml").write_text(text)
    names = ("marks", "gates", "pins")
    server.run(TABLES)
    assert yeldro("run", "steps.toml", "--rehearse", "--db", server.place).status == 0
    script = yeldro("script", "steps.toml", "--db", server.place)
    assert script.status == 0, script.err
    server.run(["INSERT INTO gates VALUES (0, 'new', 0)"])
    before = image(server, *names)
    ran = server.client(script.out, goes_on=goes_on)
    assert image(server, *names) == before
    assert ran.returncode or (goes_on and server.engine != "sqlite")
    assert ran.stderr


HOSTILE = [
    "a \nb", "a\nb",
    "a\r\nb", "a\rb", "a\x0bb", "a\x0cb", "a\x85b", "a\u2028b", "a\tb\\", "it's", '"', "`", "a%sb", ":v",
    "yeldro_1 yeldro_ab12cd_2", "$yeldro$", "/* */ --", "x\n.quit\n", "É\u3000", "表\\",
]  # fmt: skip


@pytest.mark.parametrize("shape", ["key", "where", "plain", "name"])
def test_hostile_texts_stay_what_they_are(
    server: Server, yeldro: Yeldro, tmp_path: Path, shape: str
) -> None:
    """As keys, as values, in titles and in names: a script ends where a run ends, and says so of
    each row."""
    texts = HOSTILE + ["nul\0' ; DELETE FROM other; --", "nul\0"] * (server.engine == "sqlite")
    table = {"sqlite": 'we "ir\n--', "postgresql": 'we "ir\n--', "mariadb": "we `ir\n--"}[
        server.engine
    ]
    table = table if shape == "name" else "weirs"
    blind = "" if server.engine != "mariadb" else " CHARACTER SET utf8mb4 COLLATE utf8mb4_bin"

    def fill() -> None:
        server.clear()
        server.run(
            f"CREATE TABLE {server.quoted(table)} (k VARCHAR(80){blind} PRIMARY KEY, v VARCHAR(80){blind})"
        )
        server.run(["CREATE TABLE other (id INTEGER PRIMARY KEY)", "INSERT INTO other VALUES (1)"])
        slots = "?, ?" if server.engine == "sqlite" else "%s, %s"
        with closing(server.connect()) as connection, closing(connection.cursor()) as cursor:
            for text in texts:
                cursor.execute(
                    f"INSERT INTO {server.quoted(table)} VALUES ({slots})", (text, f"{text}!")
                )

    def left() -> list[tuple[object, ...]]:
        return sorted(server.query(f"SELECT k FROM {server.quoted(table)}")) + server.query(
            "SELECT * FROM other"
        )

    chosen = [text for text in texts[::3] if "\0" not in text]
    quoted = [
        text.replace("'", "''").replace("\\", "\\\\" if server.engine == "mariadb" else "\\")
        for text in chosen
    ]
    step: dict[str, object] = {
        "name": "one\u2028 two\r\nthree",
        "delete": table,
        "key": [csv_line(text) for text in chosen],
    }
    if shape == "where":
        step = {**step, "where": "k IN (" + ", ".join(f"'{text}'" for text in quoted) + ")"}
        del step["key"]
    if shape == "plain":
        same = {"same": "v", "ignore": ["space", "case"], "keep": "lowest k"}
        step = {"name": step["name"], "dedupe": table, **same}
    document = tomlkit.document()
    document.update({"title": "a title\r\nDELETE FROM other;\x85\u2028", "steps": [step]})
    (tmp_path / "hostile.toml").write_text(tomlkit.dumps(document), newline="")
    fill()
    before = left()
    done = yeldro("run", "hostile.toml", "--yes", "--db", server.place)
    assert done.status == 0, done.err
    after = left()
    assert len(before) > len(after)
    fill()
    script = yeldro("script", "hostile.toml", "--db", server.place)
    assert (script.status, left()) == (0, before), script.err
    ran = server.client(script.out)
    assert (ran.returncode, ran.stderr, left()) == (0, "", after), script.out


def csv_line(text: str) -> str:
    return '"' + text.replace('"', '""') + '"'


PROVED = [
    "CREATE TABLE weirs (id INTEGER PRIMARY KEY, code INTEGER UNIQUE, name VARCHAR(9), up INTEGER,"
    " FOREIGN KEY (up) REFERENCES weirs (id))",
    "CREATE TABLE gates (id INTEGER PRIMARY KEY, weir INTEGER, FOREIGN KEY (weir) REFERENCES weirs (id)"
    " ON DELETE SET NULL)",
    "CREATE TABLE marks (id INTEGER PRIMARY KEY, code INTEGER, FOREIGN KEY (code) REFERENCES weirs (code))",
    "CREATE TABLE pins (id INTEGER PRIMARY KEY, weir INTEGER DEFAULT 1, FOREIGN KEY (weir) REFERENCES weirs (id)"
    " ON DELETE {})",
    "INSERT INTO weirs VALUES (1, NULL, 'a', NULL), (2, 20, 'a', 1), (3, 30, 'b', 2), (4, 40, 'c', NULL)",
    "INSERT INTO gates VALUES (1, 2), (2, 3), (3, 4)",
    "INSERT INTO marks VALUES (1, 20), (2, 40)",
    "INSERT INTO pins VALUES (1, 4), (2, 4), (3, 1)",
]
STEPS_PROVED = """
[[steps]]
name = "one"
dedupe = "weirs"
same = "name"
keep = "lowest id"
fill = true
[[steps]]
name = "two"
delete = "weirs"
where = "id = 4"
[steps.dependents]
marks = "delete"
"""
# A check as an engine writes it: what it is called, and how many it wants.
CHECKS = {
    "sqlite": r"INSERT OR ROLLBACK INTO temp.yeldro_checks SELECT '(?P<what>[^']*)', (?P<rows>-?\d+), ",
    "postgresql": r"IF yeldro_found <> (?P<rows>-?\d+) THEN RAISE EXCEPTION '(?P<what>.*): -?\d+ were expected",
    "mariadb": r"\) <> (?P<rows>-?\d+) THEN SIGNAL SQLSTATE '45000' SET MESSAGE_TEXT = '(?P<what>.*): -?\d+ were",
}
KINDS = {
    *("The picked rows of weirs are the same ones: a sum over their keys", "Delete rows of weirs"),
    *(
        "The picked rows of weirs are the same ones: the lowest and the highest key",
        "None of them is left in weirs",
    ),
    "No row references what is gone, through gates.weir -> weirs.id",
    "No row references what was replaced, through marks.code -> weirs.code",
    "No row references what is gone, through marks.code -> weirs.code",
    *("They are detached: gates.weir -> weirs.id", "No group of weirs holds several rows any more"),
    *(
        "Give rows of weirs their new values",
        "The rows of weirs that are the same, by group, the one that stays first",
    ),
    *(
        "The surplus rows of weirs, each beside the row that takes its place",
        "A copy of rows of weirs",
    ),
}


def test_each_check_of_a_script_stops_it(server: Server, yeldro: Yeldro, tmp_path: Path) -> None:
    """One after the other is made to want another number: the client fails, and nothing is changed."""
    names = ("weirs", "gates", "marks", "pins")
    rule = "SET NULL" if server.engine == "mariadb" else "SET DEFAULT"
    (tmp_path / "steps.toml").write_text(STEPS_PROVED)
    server.run([text.format(rule) for text in PROVED])
    before = image(server, *names)
    script = yeldro("script", "steps.toml", "--db", server.place)
    assert script.status == 0, script.err
    checks = list(re.finditer(CHECKS[server.engine], script.out))
    dangling = (
        {"None of them points at nothing: pins.weir -> weirs.id"}
        if server.engine != "mariadb"
        else set()
    )
    told = {check["what"] for check in checks}
    wanted = (KINDS | dangling) - (
        {"None of them is left in weirs"} if server.engine == "postgresql" else set()
    )
    assert wanted <= told, wanted - told  # PostgreSQL's own counts by table say that none is left
    for check in checks:
        start, end = check.span("rows")
        changed = f"{script.out[:start]}{int(check['rows']) + 1}{script.out[end:]}"
        ran = server.client(changed)
        assert (ran.returncode == 0, image(server, *names) == before) == (False, True), check[
            "what"
        ]
        server.run(
            [
                f"DROP TABLE IF EXISTS kept_steps_{number}{more}"
                for number in (1, 2)
                for more in KEPT
            ]
        )
    assert server.client(script.out).returncode == 0
    assert image(server, *names) != before


KEPT = ["", "_gates", "_marks", "_pins"]
