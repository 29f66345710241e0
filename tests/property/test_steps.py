"""The law of several steps: in one transaction they do what they do one after the other, and can be
taken back."""

from __future__ import annotations

import tempfile
from collections import Counter
from collections.abc import Iterator, Sequence
from pathlib import Path
from types import SimpleNamespace
from typing import Any, cast

import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st

from tests.property.merging import Tables
from tests.property.test_duplicates import KEEP
from tests.property.test_laws import Yes, take_back
from tests.property.test_laws import records as records
from tests.property.test_laws import server as server
from tests.property.test_merging import SCHEMA, fill, read, worlds
from tests.servers import Server, served
from tests.standin import run_on_stand_in
from yeldro.core.clearing.request import ClearRequest
from yeldro.core.database.connection import Database
from yeldro.core.duplicates.request import DuplicatesRequest, Filling, Nulls, read_duplicates
from yeldro.core.reach.request import Request
from yeldro.core.reach.rules import Rule, read_rules
from yeldro.core.run.outcome import RunResult
from yeldro.core.run.seal import Difference, Seal, Sealed, list_sealed, make_seal
from yeldro.core.selection.guards import Guards
from yeldro.core.selection.selection import Asked
from yeldro.errors import Refused
from yeldro.offline.oracle import Oracle
from yeldro.offline.postgresql import Postgresql
from yeldro.offline.schema_file import read_ddl
from yeldro.offline.script_writer import Task, write_entries
from yeldro.offline.sqlserver import SqlServer
from yeldro.offline.targets import write_offline
from yeldro.report.script import comment, render_script
from yeldro.store.run_record import Keeping
from yeldro.store.seal_file import find_difference, writing_seals
from yeldro.usecases import run as running
from yeldro.usecases.steps import Clearing, Deletion, Merging
from yeldro.usecases.transaction import looking
from yeldro.usecases.write_script import write_down

CONDITIONS = {
    "basins": ["a = 1", "b IS NULL", "id > 3", "id NOT IN (SELECT basin_id FROM gates)"],
    "gates": ["slot = 1", "other_id IS NULL", "basin_id < 3"],
    "pins": ["kind = 1", "gate_id < 3"],
    "tags": ["tag = 1", "basin_id NOT IN (SELECT id FROM basins WHERE a = 1)"],
    "marks": ["code IS NULL", "id > 1"],
}
CLEARED: dict[str, list[tuple[str, ...]]] = {
    "basins": [("a",), ("code",), ("b", "note"), ("parent_id", "a")],
    "gates": [("slot",), ("other_id",)],
    "pins": [("kind",)],
    "marks": [("code",)],
}
RULES = ["delete", "detach", "declared", "marks=delete", "gates=detach"]


@st.composite
def steps(draw: st.DrawFn) -> list[dict[str, Any]]:
    table = st.sampled_from(list(CONDITIONS))
    deletion = table.flatmap(
        lambda name: st.fixed_dictionaries(
            {
                "table": st.just(name),
                "where": st.sampled_from(CONDITIONS[name]),
                "rule": st.sampled_from(RULES),
            }
        )
    )
    merging = st.fixed_dictionaries(
        {
            "same": st.sampled_from([["a"], ["note"], ["b", "a"]]),
            "keep": st.sampled_from(KEEP[2:-1]),
            "filling": st.sampled_from([None, *Filling]),
            "drops": st.booleans(),
        }
    )
    clearing = st.sampled_from(list(CLEARED)).flatmap(
        lambda name: st.fixed_dictionaries(
            {
                "table": st.just(name),
                "where": st.sampled_from(CONDITIONS[name]),
                "columns": st.sampled_from(CLEARED[name]),
            }
        )
    )
    return draw(st.lists(deletion | merging | clearing, min_size=2, max_size=3))


def small(basins: int, gates: Sequence[int] = (), pins: Sequence[int] = ()) -> Tables:
    """A world that is known to need a guard: gates by their basins, pins by their gates."""
    none = {"b": None, "note": None, "parent_id": None}
    return {
        "basins": [
            {"id": key, "a": 1, "b": None, "code": 100 + key, **none}
            for key in range(1, basins + 1)
        ],
        "gates": [
            {"id": key, "basin_id": one, "other_id": None, "slot": None}
            for key, one in enumerate(gates, 1)
        ],
        "pins": [{"id": key, "gate_id": one, "kind": None} for key, one in enumerate(pins, 1)],
        "tags": [],
        "marks": [],
    }


def deleting(table: str, where: str, rule: str = "delete") -> dict[str, Any]:
    return {"table": table, "where": where, "rule": rule}


MERGING = {"same": ["a"], "keep": "lowest b", "filling": None, "drops": False}


def make_job(database: Database, step: dict[str, Any], name: str) -> Merging | Deletion:
    if "where" in step:
        asked = Asked(step["table"], where=(step["where"],), all_rows=True)
    if "columns" in step:
        rules = read_rules(["detach"], database.schema)
        return Clearing(database, ClearRequest(asked, rules, columns=step["columns"]), name)
    if "rule" in step:
        return Deletion(database, Request(asked, read_rules([step["rule"]], database.schema)), name)
    asked = Asked("basins", all_rows=True)
    grouping = read_duplicates(
        database.schema, database.dialect, asked, step["same"], [step["keep"]], Nulls.DIFFERENT, []
    )
    drops = ["gates=delete", "pins=delete", "tags=delete"] if step["drops"] else []
    rules = read_rules(drops, database.schema, Rule.MOVE)
    return Merging(database, DuplicatesRequest(grouping, 3, rules, filling=step["filling"]), name)


def make_jobs(database: Database, steps: list[dict[str, Any]]) -> list[Merging | Deletion]:
    return [make_job(database, step, f"step {number}") for number, step in enumerate(steps, 1)]


def run(
    server: Server,
    steps: list[dict[str, Any]],
    manner: running.Manner,
    keeping: Keeping | None = None,
) -> RunResult:
    """Over a connection of its own."""
    database = server.open()
    try:
        return running.run(database, make_jobs(database, steps), manner, Yes(), keeping)
    finally:
        database.close()


def seal_of(server: Server, step: dict[str, Any]) -> tuple[Seal, Counter[Sealed]]:
    database = server.open()
    try:
        job = make_job(database, step, "a")
        job.prepare()
        with looking(database):
            reach = job.look(store=True).reach
            return make_seal(database, reach), Counter(list_sealed(database, reach))
    finally:
        database.close()


@settings(max_examples=settings().max_examples // 4)
@given(worlds(), worlds(), steps())
def test_seals_are_alike_where_the_rows_are(
    server: Server, records: Path, tables: Tables, others: Tables, steps: list[dict[str, Any]]
) -> None:
    """Whatever the order in which the rows were stored, and whatever else is in the tables."""
    fill(server, tables)
    first, rows = seal_of(server, steps[0])
    fill(
        server, {name: found[::-1] if name != "basins" else found for name, found in tables.items()}
    )
    assert seal_of(server, steps[0]) == (first, rows)
    fill(server, others)
    second, other_rows = seal_of(server, steps[0])
    assert (first == second) == (rows == other_rows)
    with writing_seals(records / "steps.toml") as writer:
        writer.add("a", rows.elements())
    found = find_difference(records / "steps.toml", "a", other_rows.elements())
    assert found.rows == ((other_rows - rows).total(), (rows - other_rows).total())


@settings(max_examples=settings().max_examples // 2)
@given(worlds(), steps(), st.sampled_from([running.Manner(), running.Manner(ask_first=False)]))
@example(
    small(3, [1, 2, 3], [1, 3]),
    [deleting("pins", "gate_id < 3"), deleting("basins", "b IS NULL")],
    running.Manner(),
)
@example(
    small(2, [1]),
    [deleting("gates", "other_id IS NULL"), deleting("basins", "b IS NULL")],
    running.Manner(),
)
@example(small(2, [2]), [MERGING, deleting("gates", "other_id IS NULL")], running.Manner())
def test_steps_together_do_what_they_do_one_by_one(
    server: Server,
    records: Path,
    tables: Tables,
    steps: list[dict[str, Any]],
    manner: running.Manner,
) -> None:
    fill(server, tables)
    before = read(server, tables)
    single = [run(server, [step], manner) for step in steps]
    after = read(server, tables)
    stopped = next((place for place, one in enumerate(single) if one.status), None)
    fill(server, tables)
    keeping = Keeping(
        Path(tempfile.mkdtemp(dir=records)), facts={"kind": "run", "asked": "", "address": ""}
    )
    result = run(server, steps, manner, keeping)
    if stopped is not None:
        assert (result.status, read(server, tables)) == (single[stopped].status, before)
        assert single[stopped].reason in result.reason
        return
    done = [one.tally for one in single if one.tally]
    if not done:
        assert (result.outcome, after) == (running.Outcome.NOTHING_MATCHED, before)
        return
    assert result.outcome is running.Outcome.COMMITTED, result.reason
    assert read(server, tables) == after
    assert result.tally is not None
    found = [one.preview.reach.matched for one in single if one.preview]
    assert [one.preview.reach.matched for one in result.steps] == found
    for line in result.tally.lines:
        alone = [
            one for tally in done for one in tally.lines if one.table.label == line.table.label
        ]
        assert (line.before, line.after) == (alone[0].before, alone[-1].after)
        assert line.expected == sum(one.expected for one in alone)
    for outcome in (running.Outcome.COMMITTED, running.Outcome.NOTHING_TO_RESTORE):
        assert take_back(server, keeping) is outcome
        assert read(server, tables) == before


@settings(max_examples=settings().max_examples // 5)
@given(worlds(), steps())
def test_a_script_does_what_a_run_does(
    server: Server, tables: Tables, steps: list[dict[str, Any]]
) -> None:
    """In the engine's own client; on other data than it was written for it changes nothing."""

    def write(*, dry: bool = False, archive: str = "kept") -> str:
        database = server.open()
        try:
            writing = write_down(
                database,
                lambda on: make_jobs(on, steps),
                Guards(),
                lambda _, __: Difference(),
                archive,
            )
            return render_script(writing, "Steps", "steps.toml", dry=dry)
        finally:
            database.close()

    fill(server, tables)
    before = read(server, tables)
    result = run(server, steps, running.Manner(ask_first=False))
    after = read(server, tables)
    fill(server, tables)
    if result.status:
        with pytest.raises(Refused):
            write()
        assert read(server, tables) == before
        return
    script, dry, again = write(), write(dry=True), write(archive="")
    assert read(server, tables) == before
    done = server.client(dry)
    assert (done.returncode, done.stderr) == (0, "")
    assert read(server, tables) == before
    fill(server, tables)
    done = server.client(script)
    assert (done.returncode, done.stderr) == (0, ""), script
    assert read(server, tables) == after
    if after == before:
        return
    done = server.client(again)
    assert (done.returncode != 0, read(server, tables)) == (True, after), again


@pytest.fixture(scope="module")
def postgresql(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Server]:
    with served("postgresql", tmp_path_factory.mktemp("worlds")) as found:
        yield found


# Basin 7 lies in 4, and 4 in 3: where 7 takes the place of 3, they would lie in each other.
LOOPING: Tables = {
    **{name: [] for name in ("gates", "pins", "tags", "marks")},
    "basins": [
        {"id": id, "a": a, "b": b, "code": None, "note": None, "parent_id": parent}
        for id, a, b, parent in ((3, 0, None, None), (4, None, 0, 3), (7, 0, 2, 4))
    ],
}


@settings(max_examples=settings().max_examples // 2)
@given(worlds(), steps())
@example(
    small(2, [1]), [deleting("basins", "a = 1", "detach")]
)  # else the database's own cascade would do it
@example(LOOPING, [{"same": ["a"], "filling": None, "keep": "lowest b", "drops": False}])
def test_a_script_from_a_schema_file_does_what_a_run_does(
    postgresql: Server, tables: Tables, steps: list[dict[str, Any]]
) -> None:
    """It finds the rows itself. PostgreSQL stands for the engines that are not there: the
    statements are the same. For the others it stands in: each statement is transpiled."""
    server = postgresql
    plain = [
        {
            **step,
            "filling": None,
            "drops": False,
            "same": [name for name in step["same"] if name != "note"] or ["b"],
        }
        if "same" in step
        else step
        for step in steps
    ]

    fill(server, tables)
    before = read(server, tables)
    result = run(server, plain, running.Manner(ask_first=False))
    after = read(server, tables)
    fill(server, tables)
    schema, quoted = read_ddl(";".join(SCHEMA).replace("{blind}", "VARCHAR(20)"), "postgres")
    jobs = make_jobs(cast(Database, SimpleNamespace(schema=schema, dialect="postgres")), plain)
    tasks = [Task(job.name, job.request) for job in jobs]
    lines = write_offline(
        schema, Postgresql(quoted), tasks, Guards(), "kept", dry=False, comment=comment
    )
    done = server.client("\n".join(lines))
    assert (done.returncode == 0) == (result.status == 0), done.stderr
    assert read(server, tables) == (before if result.status else after)
    for target in (SqlServer(quoted), Oracle(quoted)):
        fill(server, tables)
        entries = write_entries(schema, target, tasks, Guards(), "kept")
        reason = run_on_stand_in(server, entries, target.dialect)
        assert (reason == "") == (result.status == 0), reason
        assert read(server, tables) == (before if result.status else after), target.title
