"""The question that a person has next is answered: why nothing matched, why a condition cannot be
run, what would allow what is blocked."""

from __future__ import annotations

import shlex

import pytest

from tests.conftest import Yeldro
from tests.servers import Server, rows

GATES = [
    "CREATE TABLE basins (id INTEGER PRIMARY KEY, name VARCHAR(40), opened DATE, state {state})",
    'CREATE TABLE gates (id INTEGER PRIMARY KEY, basin_id INTEGER NOT NULL, "Qty" INTEGER,'
    " FOREIGN KEY (basin_id) REFERENCES basins (id))",
    "CREATE TABLE pins (id INTEGER PRIMARY KEY, gate_id INTEGER, FOREIGN KEY (gate_id) REFERENCES gates (id))",
    *(
        f"INSERT INTO basins VALUES ({n}, '{name}', '2024-01-0{n}', 'open')"
        for n, name in enumerate(
            ("Upper Weir", "Old Ferry", "old ferry ", "Reedbank", "Reedbank"), 1
        )
    ),
    "INSERT INTO gates VALUES (1, 4, 10), (2, 4, 11), (3, 5, 12)",
    "INSERT INTO pins VALUES (1, 1), (2, NULL)",
]


@pytest.fixture
def gates(server: Server) -> Server:
    state = {"postgresql": "gate_state", "mariadb": "ENUM('open', 'shut')"}
    if server.engine == "postgresql":
        server.run("CREATE TYPE gate_state AS ENUM ('open', 'shut')")
    quoted = [one.replace('"Qty"', server.quoted("Qty")) for one in GATES]
    server.run([one.replace("{state}", state.get(server.engine, "TEXT")) for one in quoted])
    return server


@pytest.mark.parametrize(
    ("condition", "told"),
    [
        ("name = 'OLD FERRY!'", {"near": ["Old Ferry"]}),
        ("name = 'Reedbnak'", {"near": ["Reedbank"], "common": ["Reedbank"]}),
        ("id = 99", {"near": ["5"]}),
        ("opened = '2023-05-06'", {"near": ["2024-01-01"]}),
        ("name = '  upper weir'", {"alike": ["Upper Weir"]}),
        ("id > 1 AND name = :name", {"near": ["Reedbank"]}),
    ],
)
@pytest.mark.usefixtures("gates")
def test_where_nothing_matches_it_is_told_what_is_there(
    yeldro: Yeldro, condition: str, told: dict[str, list[str]]
) -> None:
    line = ["preview", "basins", "--where", condition]
    line += ["-p", "name=Reedbnk"] if ":name" in condition else []
    found = yeldro(*line, "--format", "json").document
    (one,) = found["no_matches"]
    listed = {kind: [str(each["value"]) for each in one[kind]] for kind in told}
    assert all(set(told[kind]) <= set(listed[kind]) for kind in told), one
    shown = yeldro(*line).out
    assert "No row meets" in shown
    assert all(value in shown for values in told.values() for value in values)


@pytest.mark.parametrize("condition", ["id = 1", "id > 3 OR id = 99", "id = basins.id"])
@pytest.mark.usefixtures("gates")
def test_nothing_is_told_where_rows_match(yeldro: Yeldro, condition: str) -> None:
    found = yeldro("preview", "basins", "--where", condition, "--format", "json").document
    assert found["no_matches"] == []


WRONG = [
    ("mariadb postgresql", "basins", "opened < '2024-13-01'", "'2024-13-01' cannot be compared with basins.opened", "such as 2024-01-31, in single quotes"),
    ("postgresql", "basins", "state = 'opn'", "'opn' cannot be compared with basins.state, which is public.gate_state", "open, shut"),
    ("postgresql", "basins", "id IN (3, 'x')", "'x' cannot be compared with basins.id", "such as 12"),
    ("postgresql", "gates", "Qty > 10", 'The column Qty needs quotes here: "Qty"', '"Qty"'),
    ("sqlite mariadb postgresql", "basins", "id IN (SELECT basin_idd FROM gates)", "There is no column 'basin_idd' in gates", "basin_id"),
    ("sqlite", "gates", "Qty > 10 AND nosuch(id) = 1", "The database cannot run the condition", "nosuch"),
    ("sqlite mariadb postgresql", "basins", "EXISTS (SELECT 1 FROM gates g WHERE g.basn_id = basins.id)", "There is no column 'basn_id' in gates", "basin_id"),
]  # fmt: skip


@pytest.mark.parametrize(
    ("any_server", "table", "condition", "said", "hint"),
    [(engine, *rest) for engines, *rest in WRONG for engine in engines.split()],
    indirect=["any_server"],
)
def test_a_condition_that_cannot_be_run_is_told_by_column_and_value(
    yeldro: Yeldro,
    gates: Server,
    table: str,
    condition: str,
    said: str,
    hint: str,
) -> None:
    before = rows(gates, "basins", "gates", "pins")
    for line in (["preview"], ["delete", "--yes"], ["delete", "--rehearse"]):
        done = yeldro(line[0], table, "--where", condition, *line[1:])
        assert (done.status, said in done.err, hint in done.err) == (2, True, True), done.err
    assert rows(gates, "basins", "gates", "pins") == before


def test_the_offered_command_has_all_that_it_needs(yeldro: Yeldro, gates: Server) -> None:
    """Rows that must go, because they cannot be detached, have dependents of their own."""
    found = yeldro("preview", "basins", "--where", "id > 3")
    assert found.status == 3
    assert "Command with all that it needs:" in found.out
    line = found.out.split("Command with all that it needs:")[1].strip().splitlines()[0]
    assert "--dependents gates=delete --dependents pins=detach --expect 2" in line
    assert "pins=delete would delete them" in found.out
    done = yeldro(*shlex.split(line)[1:], "--yes")
    assert (done.status, rows(gates, "gates"), rows(gates, "pins")) == (
        0,
        [[]],
        [[(1, None), (2, None)]],
    )


@pytest.mark.usefixtures("gates")
def test_csv_tells_a_stop_beside_the_rows(yeldro: Yeldro) -> None:
    found = yeldro("preview", "basins", "--where", "id > 3", "--format", "csv")
    assert (found.status, len(found.out.splitlines())) == (3, 3)
    assert "Would be stopped: 3 rows of gates block the delete" in found.err
