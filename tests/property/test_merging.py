"""The law of dedupe: what is left is what the plain model says, and a restore brings everything
back."""

from __future__ import annotations

import tempfile
from pathlib import Path
from typing import Any

from hypothesis import given
from hypothesis import strategies as st

from tests.property.merging import COLUMNS, Tables, merge
from tests.property.test_batches import take_back_in_batches
from tests.property.test_duplicates import KEEP, rank
from tests.property.test_laws import Yes, take_back
from tests.property.test_laws import records as records
from tests.property.test_laws import server as server
from tests.servers import Server
from yeldro.core.duplicates.request import DuplicatesRequest, Filling, Nulls, read_duplicates
from yeldro.core.reach.rules import Rule, read_rules
from yeldro.core.run.batching import Pace
from yeldro.core.selection.selection import Asked
from yeldro.store.run_record import Keeping
from yeldro.usecases import run as running

BLIND = {
    "sqlite": "VARCHAR(20) COLLATE NOCASE",
    "mariadb": "VARCHAR(20) COLLATE utf8mb4_general_ci",
    "postgresql": "VARCHAR(20) COLLATE blind",
}
SCHEMA = [
    "CREATE TABLE basins (id INTEGER PRIMARY KEY, a INTEGER, b INTEGER, code INTEGER UNIQUE, note {blind},"
    " parent_id INTEGER, FOREIGN KEY (parent_id) REFERENCES basins (id) ON DELETE CASCADE)",
    "CREATE TABLE gates (id INTEGER PRIMARY KEY, basin_id INTEGER NOT NULL, other_id INTEGER, slot INTEGER,"
    " UNIQUE (basin_id, slot), FOREIGN KEY (basin_id) REFERENCES basins (id) ON DELETE CASCADE,"
    " FOREIGN KEY (other_id) REFERENCES basins (id) ON DELETE SET NULL)",
    "CREATE TABLE pins (id INTEGER PRIMARY KEY, gate_id INTEGER NOT NULL, kind INTEGER, UNIQUE (gate_id, kind),"
    " FOREIGN KEY (gate_id) REFERENCES gates (id) ON DELETE CASCADE)",
    "CREATE TABLE tags (basin_id INTEGER, tag INTEGER, PRIMARY KEY (basin_id, tag),"
    " FOREIGN KEY (basin_id) REFERENCES basins (id) ON DELETE CASCADE)",
    "CREATE TABLE marks (id INTEGER PRIMARY KEY, code INTEGER, FOREIGN KEY (code) REFERENCES basins (code))",
]


@st.composite
def worlds(draw: st.DrawFn) -> Tables:
    few, maybe = st.integers(0, 2), st.none() | st.integers(0, 2)
    basins: list[dict[str, Any]] = []
    for key in range(1, draw(st.integers(2, 7)) + 1):
        note = draw(st.sampled_from([None, "", " ", "x", "X ", " é"]))
        code, parent = (
            draw(st.sampled_from([None, 100 + key])),
            draw(st.none() | st.integers(1, key)),
        )
        row = {"id": key, "a": draw(maybe), "b": draw(maybe), "code": code, "note": note}
        basins.append({**row, "parent_id": parent if parent != key else None})
    ids = st.integers(1, len(basins))
    codes = st.sampled_from([None, *(row["code"] for row in basins)])
    gates = draw(
        st.lists(
            st.tuples(ids, st.none() | ids, maybe),
            max_size=6,
            unique_by=lambda row: (row[0], row[2]),
        )
    )
    pins = (
        draw(st.lists(st.tuples(st.integers(1, len(gates)), maybe), max_size=6, unique=True))
        if gates
        else []
    )
    tags = draw(st.lists(st.tuples(ids, few), max_size=6, unique=True))
    return {
        "basins": basins,
        "gates": [
            {"id": n, "basin_id": b, "other_id": o, "slot": s}
            for n, (b, o, s) in enumerate(gates, 1)
        ],
        "pins": [{"id": n, "gate_id": g, "kind": k} for n, (g, k) in enumerate(pins, 1)],
        "tags": [{"basin_id": b, "tag": t} for b, t in tags],
        "marks": [{"id": n, "code": c} for n, c in enumerate(draw(st.lists(codes, max_size=4)), 1)],
    }


def in_order(tables: Tables) -> dict[str, list[str]]:
    return {name: sorted(map(str, rows)) for name, rows in tables.items()}


def read(server: Server, tables: Tables) -> dict[str, list[str]]:
    found: Tables = {}
    for name in tables:
        rows = server.query(f"SELECT {', '.join(COLUMNS[name])} FROM {name}")
        found[name] = [dict(zip(COLUMNS[name], row, strict=True)) for row in rows]
    return in_order(found)


def fill(server: Server, tables: Tables) -> None:
    server.clear()
    rows = [(name, list(row.values())) for name in COLUMNS for row in tables[name]]
    inserts = [
        f"INSERT INTO {name} VALUES ({str(values)[1:-1].replace('None', 'NULL')})"
        for name, values in rows
    ]
    collation = (
        "CREATE COLLATION blind (provider = icu, locale = 'und-u-ks-level2', deterministic = false)"
    )
    made = [text.replace("{blind}", BLIND[server.engine]) for text in SCHEMA]
    server.run([*([collation] if server.engine == "postgresql" else []), *made, *inserts])


def spelled(server: Server, value: Any, ignored: list[str]) -> Any:
    """What rows have in common as the column's collation and --ignore see it."""
    if not isinstance(value, str):
        return value
    text = " ".join(value.split()) if "space" in ignored else value
    if (
        server.engine == "mariadb" or "accents" in ignored
    ):  # this collation sees no accents, and no blanks at the end
        text = text.replace("é", "e")
    return (text.rstrip(" ") if server.engine == "mariadb" else text).lower()


@given(data=st.data())
def test_what_is_left_is_what_the_model_says_and_can_be_taken_back(
    server: Server, records: Path, data: st.DataObject
) -> None:
    tables = data.draw(worlds())
    same = data.draw(st.sampled_from([["a"], ["a", "b"], ["note"], ["note", "a"]]))
    ignored = data.draw(st.lists(st.sampled_from(["case", "space", "accents"]), unique=True))
    keep = data.draw(
        st.lists(st.sampled_from(["newest a", *KEEP[2:-1]]), min_size=1, max_size=3, unique=True)
    )
    nulls = data.draw(st.sampled_from(list(Nulls)))
    filling = data.draw(st.sampled_from([None, *Filling]))
    drops = data.draw(st.sets(st.sampled_from(["gates", "pins", "tags"])))
    pace = data.draw(st.sampled_from([None, Pace(1), Pace(4)]))
    # In batches a kept row is filled with what earlier ones left, which the model does not know.
    is_known = filling is None or pace is None
    manner = running.Manner(ask_first=data.draw(st.booleans()), pace=pace)
    groups: dict[Any, list[Any]] = {}
    for row in tables["basins"]:
        shared = tuple(spelled(server, row[name], ignored) for name in same)
        if nulls is Nulls.SAME or not any(
            row[name] is None or str(row[name]).strip() == "" for name in same
        ):
            groups.setdefault(shared, []).append((row["id"], row["a"], row["b"], row["note"]))
    ranked = [
        sorted(rows, key=lambda row: [*(rank(rule, row) for rule in keep), row[0]])
        for rows in groups.values()
    ]
    several = [[row[0] for row in rows] for rows in ranked if len(rows) > 1]
    model = merge(tables, several, drops, filling or "")
    fill(server, tables)
    before = in_order(tables)
    assert read(server, tables) == before
    database = server.open()
    keeping = Keeping(
        Path(tempfile.mkdtemp(dir=records)), facts={"kind": "dedupe", "asked": "", "address": ""}
    )
    try:
        asked = Asked("basins", all_rows=True)
        grouping = read_duplicates(
            database.schema, database.dialect, asked, same, keep, nulls, ignored
        )
        rules = read_rules([f"{name}=delete" for name in drops], database.schema, Rule.MOVE)
        request = DuplicatesRequest(grouping, 3, rules, filling=filling)
        result = running.dedupe(database, request, manner, Yes(), keeping)
    finally:
        database.close()
    if not several:
        assert (result.outcome, read(server, tables)) == (
            running.Outcome.NOTHING_MATCHED,
            before,
        ), result.reason
        return
    if model.stops and is_known:
        assert (result.outcome, read(server, tables)) == (running.Outcome.STOPPED, before), (
            model.stops
        )
        return
    if is_known:
        assert result.outcome is running.Outcome.COMMITTED, result.reason
        assert read(server, tables) == in_order(model.after)
    elif not result.tally:
        assert (result.outcome, read(server, tables)) == (running.Outcome.STOPPED, before)
        return
    if pace and (rows := data.draw(st.sampled_from([None, 1, 5]))):
        assert take_back_in_batches(server, keeping, rows) is running.Outcome.COMMITTED
        assert read(server, tables) == before
        return
    for outcome in (running.Outcome.COMMITTED, running.Outcome.NOTHING_TO_RESTORE):
        assert take_back(server, keeping) is outcome
        assert read(server, tables) == before
