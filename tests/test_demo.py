"""The demo database and the walk through it."""

from __future__ import annotations

import json
import re
import shlex
import sqlite3
from collections.abc import Iterator
from contextlib import closing
from pathlib import Path
from types import SimpleNamespace
from typing import Any, cast

import psycopg
import pytest

from tests.conftest import Yeldro, digest
from tests.servers import Server, served
from tests.standin import run_on_stand_in
from yeldro.cli.cleanup_jobs import ChosenSteps, read_step
from yeldro.cli.steps import read_values
from yeldro.core.database.connection import Database
from yeldro.demo.cleanups import CLEANUPS
from yeldro.demo.larkwater import make_larkwater
from yeldro.errors import YeldroError
from yeldro.examples import EXAMPLES
from yeldro.offline.oracle import Oracle
from yeldro.offline.schema_file import read_ddl
from yeldro.offline.script_entries import Entry
from yeldro.offline.script_writer import Task, write_entries
from yeldro.offline.sqlserver import SqlServer
from yeldro.offline.target import Target
from yeldro.overview import COMMANDS
from yeldro.store.cleanup_file import load_cleanup

CHANGING = ("delete", "clear", "dedupe", "run", "resume", "restore")

PLANTED = {
    "chain of three": "SELECT 1 FROM sensors a JOIN sensors b ON a.replaced_by_id = b.id JOIN sensors c"
    " ON b.replaced_by_id = c.id",
    "cycle": "SELECT 1 FROM stations t JOIN sensors s ON t.main_sensor_id = s.id AND s.station_id = t.id",
    "two references": "SELECT 1 FROM visits WHERE reviewer_id <> observer_id",
    "partly NULL": "SELECT 1 FROM alerts WHERE sensor_id IS NOT NULL AND calibration_number IS NULL",
    "orphans": "SELECT 1 FROM readings WHERE sensor_id NOT IN (SELECT id FROM sensors)",
    "registered twice": "SELECT 1 FROM observers GROUP BY lower(trim(email)) HAVING count(*) > 1",
    "uploaded twice": "SELECT 1 FROM readings GROUP BY sensor_id, measured_at HAVING count(*) > 1",
    "loaded twice": "SELECT 1 FROM logger_lines GROUP BY sensor_code, received_at, line HAVING count(*) > 1",
    "trial rows": "SELECT 1 FROM stations WHERE is_trial",
    "gaps": "SELECT 1 FROM readings WHERE level_m IS NULL",
    "closed": "SELECT 1 FROM closed_stations",
}


@pytest.mark.alone
@pytest.mark.parametrize("engine", ["postgresql", "mariadb"])
def test_the_demo_in_a_database_of_its_own_on_a_server(
    yeldro: Yeldro, engine: str, tmp_path: Path
) -> None:
    closed = ["stations", "--where", "closed_on < '2019-01-01'", "--dependents", "photos=detach"]
    with served(engine, tmp_path) as server:
        made = yeldro("demo", "there", "--build-only", "--db", server.place)
        assert made.status == 0, made.err
        again = yeldro("demo", "again", "--db", server.place)
        assert (again.status, "larkwater" in again.err) == (2, True)
        url = server.place.rpartition("/")[0] + "/larkwater"

        def ask(*line: str) -> dict[str, Any]:
            found = yeldro(*line, "--db", url, "--format", "json").out
            return cast(dict[str, Any], json.loads(found))

        try:
            orphans = ask("preview", "readings", "--orphans")
            gone = ask("delete", *closed, "--yes")
            assert ask("restore", "last", "--yes")["outcome"] == "committed"
        finally:
            assert yeldro("demo", "there", "--drop").status == 0
        assert yeldro("demo", "there", "--drop").status == 5
    assert (orphans["matched"], gone["outcome"]) == (24, "committed")
    assert [one["deleted"] for one in gone["tally"] if one["table"] == "readings"] == [2912]
    assert [one["after"] for one in gone["tally"] if one["table"] == "removals"] == [6]


def test_the_examples_of_the_help_work_in_the_folder_of_the_demo(
    yeldro: Yeldro, tmp_path: Path
) -> None:
    assert yeldro("demo", ".", "--build-only").status == 0
    (tmp_path / "theirs.sql").write_text("DELETE FROM photos WHERE id = 1;", encoding="utf-8")
    assert [*EXAMPLES, "completion", "demo"] == sorted(
        COMMANDS, key=[*EXAMPLES, "completion", "demo"].index
    )
    stopped = "delete readings --where id<90 --batch 9 --batches 1 --yes"
    for command, lines in EXAMPLES.items():
        if command == "resume":
            assert yeldro(*stopped.split()).status == 0
        told = yeldro(command, "--help").out
        for line in lines:
            assert line in told
            _, *words = shlex.split(line)
            asks = command in CHANGING and "--explain" not in words
            done = yeldro(*words, *(["--yes"] if asks else []))
            assert done.status in (0, *([3] if command == "preview" else [])), (line, done.err)


def test_larkwater_is_the_same_each_time_and_holds_every_shape(
    tmp_path: Path, built_larkwater: Path
) -> None:
    make_larkwater(tmp_path / "again.db")
    assert digest(tmp_path / "again.db") == digest(built_larkwater)
    connection = sqlite3.connect(built_larkwater)
    assert [
        name for name, query in PLANTED.items() if not connection.execute(query).fetchall()
    ] == []
    rules = {
        row[0]
        for row in connection.execute(
            "SELECT on_delete FROM sqlite_master m, pragma_foreign_key_list(m.name)"
        )
    }
    assert rules == {"CASCADE", "SET NULL", "RESTRICT", "NO ACTION"}
    assert 19_000 < connection.execute("SELECT count(*) FROM readings").fetchone()[0] < 22_000
    connection.close()


def test_scale_multiplies(yeldro: Yeldro) -> None:
    assert yeldro("demo", "big", "--scale", "3", "--build-only").status == 0
    survey = yeldro("survey", "--db", "big/gauges.db", "--format", "json").document
    rows = {table["name"]: table["rows"] for table in survey["tables"]}
    assert (rows["stations"], rows["observers"], rows["closed_stations"]) == (126, 101, None)
    station = next(table for table in survey["tables"] if table["name"] == "stations")
    assert station.keys() >= {
        "name",
        "rows",
        "key",
        "references",
        "referenced_by",
        "triggers",
        "cautions",
    }
    assert [one["name"] for one in station["cautions"]] == ["trigger"]


def test_the_walk_ends_with_the_rows_back(yeldro: Yeldro) -> None:
    result = yeldro("demo")
    assert result.status == 0
    assert result.out.count("\n$ yeldro ") == 30
    # Three of its commands are stopped, which is what it shows; none fails in another way.
    assert (result.out.count("(exit status 3)"), result.out.count("(exit status")) == (3, 3)
    words = (
        "Rehearsed",
        "Committed",
        "0 of 36",
        "nothing to restore",
        "nothing to remove",
        "240        60",
    )
    assert [word for word in words if word not in result.out] == []
    close = yeldro(
        "survey", "stations", "--db", "larkwater/gauges.db", "--format", "json"
    ).document["tables"][0]
    assert (close["rows"], ["code"] in close["unique"]) == (42, True)
    column = {one["name"]: one for one in close["columns"]}["closed_on"]
    assert (column["nulls"], column["distinct"], column["smallest"]) == (34, 8, "2012-05-28")
    assert yeldro("demo").status == 2


def test_every_cleanup_of_the_demo_runs(yeldro: Yeldro) -> None:
    assert yeldro("demo", "--build-only").status == 0
    done = []
    for name in CLEANUPS:
        place = [f"larkwater/{name}", "--db", "larkwater/gauges.db", "--format", "json"]
        steps = yeldro("preview", *place).document["steps"]
        done += [step.get("matched", step.get("surplus")) for step in steps]
        assert yeldro("run", *place, "--rehearse").document["outcome"] == "rehearsed", name
    assert done == [6, 3, 6, 672, 24, 24, 672, 60]


def test_every_cleanup_of_the_demo_does_the_same_as_a_script(
    yeldro: Yeldro, tmp_path: Path
) -> None:
    def rows(path: Path) -> dict[str, list[str]]:
        with closing(sqlite3.connect(path)) as connection:
            connection.execute(
                "UPDATE removals SET removed_at = ''"
            )  # the second in which a trigger wrote it
            names = [
                row[0]
                for row in connection.execute("SELECT name FROM sqlite_master WHERE type = 'table'")
            ]
            return {
                name: sorted(map(str, connection.execute(f"SELECT * FROM {name}")))
                for name in sorted(names)
            }

    assert yeldro("demo", "--build-only").status == 0
    start = (tmp_path / "larkwater" / "gauges.db").read_bytes()
    for name in CLEANUPS:
        place = [f"larkwater/{name}", "--db", "larkwater/gauges.db", "--no-archive"]
        script = yeldro("script", *place)
        assert script.status == 0, script.err
        assert (tmp_path / "larkwater" / "gauges.db").read_bytes() == start
        (tmp_path / "other.db").write_bytes(start)
        assert Server("sqlite", str(tmp_path / "other.db"), '"').client(script.out).stderr == ""
        assert yeldro("run", *place, "--yes", "--format", "json").document["outcome"] == "committed"
        assert rows(tmp_path / "other.db") == rows(tmp_path / "larkwater" / "gauges.db"), name
        (tmp_path / "larkwater" / "gauges.db").write_bytes(start)


@pytest.fixture(scope="module")
def postgresql(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Server]:
    with served("postgresql", tmp_path_factory.mktemp("larkwater")) as found:
        yield found


class OnServer:
    """Larkwater on a server, filled from the demo's file again and again."""

    def __init__(self, server: Server, path: Path) -> None:
        self.server = server
        self.path = path
        with closing(sqlite3.connect(path)) as file:
            made = "SELECT name, sql FROM sqlite_master WHERE type = 'table' ORDER BY rowid"
            tables = dict(file.execute(made).fetchall())
            self.rows = {name: file.execute(f"SELECT * FROM {name}").fetchall() for name in tables}
        self.ddl = [sql.replace("BOOLEAN", "SMALLINT") for sql in tables.values()]
        # Some readings are orphans, and tables reference each other: references come last, and
        # are not checked for what is there.
        schema, _ = read_ddl(";".join(self.ddl), "postgres")
        self.references = [
            f"ALTER TABLE {one.child.label} ADD FOREIGN KEY ({', '.join(one.columns)}) REFERENCES "
            f"{one.parent.label} ({', '.join(one.referred)}) ON DELETE {one.on_delete} NOT VALID"
            for one in schema.references
        ]
        self.schema = schema

    def fill(self) -> None:
        with psycopg.connect(self.server.place) as connection:
            connection.execute("DROP SCHEMA public CASCADE; CREATE SCHEMA public")
            for sql in self.ddl:
                bare = re.sub(
                    r",\s*FOREIGN KEY .*NULL| REFERENCES [^,\n]*", "", sql, flags=re.DOTALL
                )
                connection.execute(bare.encode())
            for name, rows in self.rows.items():
                with connection.cursor().copy(f"COPY {name} FROM STDIN".encode()) as copy:
                    for row in rows:
                        copy.write_row(row)
            for sql in self.references:
                connection.execute(sql.encode())

    def read(self) -> dict[str, list[str]]:
        return {
            name: sorted(map(str, self.server.query(f"SELECT * FROM {name}"))) for name in self.rows
        }


@pytest.mark.parametrize("name", CLEANUPS)
def test_what_is_written_for_servers_that_are_not_there_ends_where_a_run_ends(
    yeldro: Yeldro, gauges: Path, postgresql: Server, name: str
) -> None:
    """Larkwater on PostgreSQL stands in: the statements for the others are transpiled."""
    world = OnServer(postgresql, gauges)
    (gauges.parent / name).write_text(CLEANUPS[name].replace('database = "gauges"', ""))
    cleanup = load_cleanup(gauges.parent / name)
    values = read_values(cleanup, cleanup.steps, (), None)
    chosen = ChosenSteps(gauges.parent / name, cleanup, cleanup.steps, values)
    nowhere = cast(Database, SimpleNamespace(schema=world.schema, dialect="postgres"))

    def write(target: Target) -> list[Entry]:
        tasks = [Task(step.name, read_step(nowhere, chosen, step)) for step in cleanup.steps]
        return write_entries(world.schema, target, tasks, chosen.limits, "kept")

    if name in ("observers-twice.toml", "logger-lines.toml"):  # ignore, and a table without a key
        with pytest.raises(YeldroError):
            write(Oracle())
        return
    world.fill()
    done = yeldro("run", name, "--db", postgresql.place, "--yes")
    assert done.status == 0, done.err
    after = world.read()
    for target in (SqlServer(), Oracle()):
        world.fill()
        assert run_on_stand_in(postgresql, write(target), target.dialect) == ""
        assert world.read() == after, target.title
