"""The law of scripts over random schemas: run in the engine's own client, they end where a run
ends."""

from __future__ import annotations

import subprocess
from collections.abc import Callable
from types import SimpleNamespace
from typing import Any, cast

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.property.databases import make, read
from tests.property.test_laws import Yes, in_order
from tests.property.test_laws import server as server
from tests.property.test_steps import postgresql as postgresql
from tests.property.worlds import Case, cases
from tests.servers import Server
from tests.standin import run_on_stand_in
from yeldro.core.database.connection import Database
from yeldro.core.reach.request import Request
from yeldro.core.reach.rules import read_rules
from yeldro.core.run.outcome import RunResult
from yeldro.core.run.seal import Difference
from yeldro.core.selection.guards import Guards
from yeldro.core.selection.selection import Asked
from yeldro.errors import Refused, YeldroError
from yeldro.offline.oracle import Oracle
from yeldro.offline.postgresql import Postgresql
from yeldro.offline.schema_file import read_ddl
from yeldro.offline.script_writer import Task, write_entries
from yeldro.offline.sqlserver import SqlServer
from yeldro.offline.targets import write_offline
from yeldro.report.script import comment, render_script
from yeldro.usecases import run as running
from yeldro.usecases.steps import Deletion
from yeldro.usecases.write_script import write_down

Requests = Callable[[Any], list[Request]]


def draw_requests(data: st.DataObject, case: Case) -> Requests:
    """The deletion of a case, and after it another one in the same schema, by a condition."""
    key = case.world.keys[case.table]
    matched = [case.world.rows[case.table][place] for place in case.matched]
    keys = tuple(",".join(str(row[name]) for name in key) for row in matched)
    texts = [rule if name is None else f"{name}={rule}" for name, rule in case.rules.items()]
    table = data.draw(st.sampled_from(list(case.world.rows)))
    where = data.draw(st.sampled_from(["u IS NULL", "u > 101", "u = 100"]))
    rule = data.draw(st.sampled_from(["delete", "detach", "declared"]))

    def make_requests(database: Any) -> list[Request]:
        first = Request(
            Asked(case.table, keys=keys, all_rows=True), read_rules(texts, database.schema)
        )
        second = Request(
            Asked(table, where=(where,), all_rows=True), read_rules([rule], database.schema)
        )
        return [first, second]

    return make_requests


def run(server: Server, requests: Requests) -> RunResult:
    database = server.open()
    try:
        jobs = [
            Deletion(database, one, f"step {number}")
            for number, one in enumerate(requests(database), 1)
        ]
        return running.run(database, jobs, running.Manner(ask_first=False), Yes())
    finally:
        database.close()


@settings(max_examples=settings().max_examples // 3)
@given(data=st.data())
def test_a_script_ends_where_a_run_ends(server: Server, data: st.DataObject) -> None:
    case = data.draw(cases(server.engine))
    requests = draw_requests(data, case)

    def write(archive: str) -> str:
        database = server.open()
        try:
            writing = write_down(
                database,
                lambda on: [
                    Deletion(on, one, f"step {number}")
                    for number, one in enumerate(requests(on), 1)
                ],
                Guards(),
                lambda _, __: Difference(),
                archive,
            )
            return render_script(writing, "", "steps.toml", dry=False)
        finally:
            database.close()

    make(server, case.world)
    result = run(server, requests)
    after = in_order(read(server, case.world))
    make(server, case.world)
    before = in_order(read(server, case.world))
    if result.status:
        with pytest.raises(YeldroError):
            write("kept")
        assert in_order(read(server, case.world)) == before == after
        return
    script, again = write("kept"), write("")
    assert in_order(read(server, case.world)) == before
    done = server.client(script)
    assert done.returncode == 0, done.stderr + script
    assert in_order(read(server, case.world)) == after
    if after != before:
        assert server.client(again).returncode != 0, again
        assert in_order(read(server, case.world)) == after


@settings(max_examples=settings().max_examples // 3)
@given(data=st.data())
def test_a_script_from_a_schema_file_ends_where_a_run_ends(
    postgresql: Server, data: st.DataObject
) -> None:
    """It may refuse to be written where a run knows more ways; what is written does the same."""
    case = data.draw(cases("postgresql"))
    requests = draw_requests(data, case)
    make(postgresql, case.world)
    before = in_order(read(postgresql, case.world))
    result = run(postgresql, requests)
    after = in_order(read(postgresql, case.world))
    make(postgresql, case.world)
    dump = subprocess.run(
        ["pg_dump", "-s", postgresql.place], check=True, capture_output=True, text=True
    )
    schema, quoted = read_ddl(dump.stdout, "postgres")
    nowhere = cast(Database, SimpleNamespace(schema=schema, dialect="postgres"))
    tasks = [Task(f"step {number}", one) for number, one in enumerate(requests(nowhere), 1)]
    try:
        lines = write_offline(
            schema, Postgresql(quoted), tasks, Guards(), "kept", dry=False, comment=comment
        )
    except Refused as error:
        if "cycle" not in error.message:
            raise
        return
    done = postgresql.client("\n".join(lines))
    assert (done.returncode == 0) == (result.status == 0), (done.stderr, result.reason)
    wanted = before if result.status else after
    assert in_order(read(postgresql, case.world)) == wanted
    for target in (SqlServer(quoted), Oracle(quoted)):
        make(postgresql, case.world)
        entries = write_entries(schema, target, tasks, Guards(), "kept")
        reason = run_on_stand_in(postgresql, entries, target.dialect)
        assert (reason == "") == (result.status == 0), reason
        assert in_order(read(postgresql, case.world)) == wanted, target.title
