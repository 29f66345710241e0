"""What could be cleaned up, where a value lives, and how long looking may take."""

from __future__ import annotations

import json
import shlex
import time
from typing import Any

import pytest

from tests.conftest import Yeldro
from tests.servers import Server, login
from yeldro.core.database.abilities import Mode
from yeldro.errors import BadStatement, NotAllowed, Refused, TookTooLong, YeldroError
from yeldro.usecases import findings
from yeldro.usecases.transaction import looking

FLOOD = [
    "CREATE TABLE basins (id INTEGER PRIMARY KEY, code VARCHAR(20), remark VARCHAR(60), opened VARCHAR(20))",
    "CREATE TABLE gates (id INTEGER PRIMARY KEY, basin_id INTEGER, taken_at TIMESTAMP, level INTEGER,"
    " FOREIGN KEY (basin_id) REFERENCES basins (id))",
    "CREATE TABLE raw_lines (line VARCHAR(20), basin_id INTEGER)",
    "CREATE TABLE spare (id INTEGER PRIMARY KEY)",
    *(
        f"INSERT INTO basins VALUES ({n}, '{'A ' if n == 6 else 'a'}{n % 6}', "
        f"{('NULL', chr(39) + ' ' + chr(39), chr(39) + 'x' + chr(39))[n % 3]},"
        f" '{'2024-01-0' if n < 6 else '01.01.202'}{n}')"
        for n in range(1, 8)
    ),
    *(
        f"INSERT INTO gates VALUES ({n}, {n % 4 + 1}, '2024-01-{n % 9 + 1:02} 06:00:00', 5)"
        for n in range(40)
    ),
    *(f"INSERT INTO raw_lines VALUES ('line {n // 2}', {n + 2})" for n in (0, 1, 2, 2, 6)),
]


def shown_by(yeldro: Yeldro, line: str) -> int:
    """How many rows the command of a finding shows: matched ones, or surplus ones."""
    done = yeldro(*shlex.split(line)[1:], "--format", "json")
    document: dict[str, Any] = json.loads(done.out)
    assert done.status in (0, 3), document
    return int(document["matched"] if document["kind"] == "preview" else document["surplus"])


def test_each_finding_counts_what_its_line_shows(yeldro: Yeldro, server: Server) -> None:
    server.run(FLOOD)
    if server.engine != "postgresql":
        off = "SET foreign_key_checks = 0" if server.engine == "mariadb" else "SELECT 1"
        server.run(off, "INSERT INTO gates VALUES (90, 99, NULL, NULL)")
    found = yeldro("survey", "--findings", "--format", "json").document
    assert found["unseen"] == []
    told = {(one["table"], one["name"], one["rows"]) for one in found["findings"]}
    expected = {
        ("basins", "blank", 3),
        ("basins", "days", 2),
        ("basins", "almost-unique", 1),
        ("gates", "almost-unique", 4),
        ("raw_lines", "alike", 1),
        ("spare", "empty", 0),
    }
    assert expected <= told
    assert (("gates", "orphans", 1) in told) == (server.engine != "postgresql")
    for one in found["findings"]:
        if one["name"] != "empty":
            assert shown_by(yeldro, one["line"]) == one["rows"], one
    shown = yeldro("survey", "--findings")
    assert all(one["line"] in shown.out for one in found["findings"])


@pytest.mark.parametrize(
    ("value", "columns"),
    [
        ("5", {"gates.id", "gates.level"}),
        ("x", {"basins.remark"}),
        ("2024-01-03", {"basins.opened"}),
        ("' OR 1 = 1 --", set()),
    ],
)
def test_a_value_is_found_where_it_lives(
    yeldro: Yeldro, server: Server, value: str, columns: set[str]
) -> None:
    server.run(FLOOD)
    found = yeldro("survey", f"--holding={value}", "--format", "json").document["holding"]
    assert {f"{one['table']}.{one['column']}" for one in found} >= columns
    assert bool(found) == bool(columns)
    for one in found:
        assert shown_by(yeldro, one["line"]) == one["rows"] > 0
    assert value in yeldro("survey", f"--holding={value}").out


def test_a_part_stands_for_a_table_that_takes_too_long(
    yeldro: Yeldro, server: Server, monkeypatch: pytest.MonkeyPatch
) -> None:
    server.run(FLOOD)
    monkeypatch.setattr(findings, "SAMPLE", 38)
    found = yeldro("survey", "--findings", "--wait", "0", "--format", "json").document
    gates = next(one for one in found["findings"] if one["table"] == "gates")
    assert (gates["rows"], gates["sampled"]) == (2, 38)
    assert {one["sampled"] for one in found["findings"] if one["table"] == "basins"} == {None}
    assert found["unseen"] == ["raw_lines"]  # without a key there is no first part of it
    assert "(among the first 38 rows)" in yeldro("survey", "--findings", "--wait", "0").out


def test_a_look_ends_in_time(server: Server) -> None:
    server.run(FLOOD)
    database = server.open(Mode.READ)
    many = " JOIN gates AS a{} ON 1 = 1" * 6
    start = time.monotonic()

    def look() -> None:
        with database.limited(0.3), looking(database):
            database.gate.run_text(f"SELECT count(*) FROM gates{many.format(*range(6))}")  # type: ignore[attr-defined]  # of every engine

    with pytest.raises(TookTooLong):
        look()
    assert time.monotonic() - start < 5
    with looking(database):
        assert database.count_rows(database.schema.find_table("gates")) == 40
    database.close()


@pytest.mark.parametrize("error", [NotAllowed, Refused, BadStatement, TookTooLong])
def test_a_limit_ends_with_what_it_was_for(server: Server, error: type[YeldroError]) -> None:
    """Whatever was refused meanwhile: later statements may take their time, and so may later
    limits."""
    server.run(FLOOD)
    database = server.open(Mode.READ)
    for seconds in (0.02, 5):
        with pytest.raises(error), database.limited(seconds):
            raise error("refused")
    many = " JOIN gates AS a{} ON 1 = 1" * 3
    with database.limited(60), looking(database):
        rows = database.gate.run_text(f"SELECT count(*) FROM gates{many.format(*range(3))}")  # type: ignore[attr-defined]  # of every engine
        assert int(rows.scalar_one()) == 40**4
    database.close()


def test_some_tables_are_named_at_once(yeldro: Yeldro, server: Server) -> None:
    server.run(FLOOD)
    schema = {"sqlite": "main", "postgresql": "public"}.get(
        server.engine, server.place.rpartition("/")[2]
    )
    for names, tables in (
        (["*a*e*"], ["gates", "raw_lines", "spare"]),
        ([f"{schema[:-1]}*"], []),
        ([f"{schema}.*gates", f"{schema[:-1]}?.spar*"], ["gates", "spare"]),
        (["G?tes", "spare"], ["gates", "spare"]),
        ([f"{schema}."], ["basins", "gates", "raw_lines", "spare"]),
    ):
        found = yeldro("survey", *names, "--format", "json").document
        assert [one["name"] for one in found.get("tables", [])] == tables
    sizes = yeldro("survey", "--by-size", "--format", "json").document["tables"]
    assert [one["name"] for one in sizes][:2] == ["gates", "basins"]
    none = yeldro("survey", "weir*")
    assert (none.status, "No table fits 'weir*'" in none.err) == (2, True)


@pytest.mark.parametrize("any_server", ["postgresql"], indirect=True)
def test_a_table_that_may_not_be_read_hides_no_other(yeldro: Yeldro, server: Server) -> None:
    """Nor does what this account may not do: without temporary tables some questions stay open."""
    server.run(FLOOD)
    server.run(f"REVOKE TEMPORARY ON DATABASE {server.place.rpartition('/')[2]} FROM PUBLIC")
    grants = ("USAGE ON SCHEMA public", "SELECT ON basins")
    with login(server, *grants) as place:
        line = ["survey", "--db", place, "--format", "json"]
        counted = {one["name"]: one["rows"] for one in yeldro(*line).document["tables"]}
        assert counted == {"basins": 7, "gates": None, "raw_lines": None, "spare": None}
        found = yeldro(*line, "--findings").document
        assert {one["table"] for one in found["findings"]} == {"basins"}
        assert found["unseen"] == ["basins", "gates", "raw_lines", "spare"]
        held = yeldro(*line, "--holding", "x").document
        assert [one["column"] for one in held["holding"]] == ["remark"]
    assert "not allowed" not in yeldro("survey").out
