"""Scripts of every kind of selection and of duplicates, run in the engine's own client."""

from __future__ import annotations

from pathlib import Path

import pytest

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
# A step; whether MariaDB, where nothing tells rows of marks apart, can do it too.
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
    'delete = "marks"\nwhere = "n = 1"': False,
}


def image(server: Server, *names: str) -> list[list[str]]:
    return [sorted(map(str, server.query(f"SELECT * FROM {name}"))) for name in names]


@pytest.mark.parametrize("step", STEPS)
def test_a_script_does_what_the_run_does(server: Server, yeldro: Yeldro, tmp_path: Path, step: str) -> None:
    names = ("marks", "gates", "pins")
    (tmp_path / "one.toml").write_text(f'[[steps]]\nname = "a"\n{step}\n')
    server.clear()
    server.run(TABLES)
    before = image(server, *names)
    done = yeldro("run", "one.toml", "--yes", "--db", server.place)
    if server.engine == "mariadb" and not STEPS[step]:
        assert done.status == yeldro("script", "one.toml", "--db", server.place).status == 2
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
def test_a_script_that_fails_changes_nothing(server: Server, yeldro: Yeldro, tmp_path: Path, goes_on: bool) -> None:
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
