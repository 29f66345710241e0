"""Laws over random schemas: what the product does is what the plain model says."""

from __future__ import annotations

import tempfile
from collections.abc import Iterator, Sequence
from contextlib import closing
from pathlib import Path

import pytest
from hypothesis import event, given, settings
from hypothesis import strategies as st

from tests.property.databases import make, read
from tests.property.model import Row, expect
from tests.property.worlds import Case, cases
from tests.servers import ENGINES, Server, served
from yeldro.core.database.abilities import Mode
from yeldro.core.reach.request import Request
from yeldro.core.reach.rules import read_rules
from yeldro.core.restore.plan import RestorePlan
from yeldro.core.run.batching import Progress
from yeldro.core.run.forecast import Forecast
from yeldro.core.run.preview import Preview
from yeldro.core.run.tally import Tally
from yeldro.core.selection.selection import Asked
from yeldro.engines.open import open_database
from yeldro.errors import YeldroError
from yeldro.store.find_records import find_record
from yeldro.store.run_record import Keeping
from yeldro.usecases import restore as restoring
from yeldro.usecases import run as running


class Yes:
    """Says yes to everything."""

    def show(self, preview: Preview) -> None:
        self.preview = preview

    def allow(self, previews: Sequence[Preview]) -> bool:
        return previews[-1] is self.preview

    def show_forecast(self, found: Forecast) -> None:
        pass

    def allow_more(self, preview: Preview, rows: int) -> bool:
        return preview is self.preview and rows > 0

    def allow_commit(self, tally: Tally) -> bool:
        return tally.balanced

    def show_plan(self, plan: RestorePlan) -> None:
        self.plan = plan

    def allow_restore(self, plan: RestorePlan) -> bool:
        return plan is self.plan

    def copying(self, rows: int, total: int) -> None:
        assert rows <= total

    def committing(self) -> None:
        pass

    def begin_batches(self) -> None:
        self.seen: list[Progress] = []

    def batch_done(self, progress: Progress) -> None:
        self.seen.append(progress)

    def waiting(self, name: str, seconds: float, progress: Progress) -> None:
        pass

    def wants_to_stop(self) -> bool:
        return False


@pytest.fixture(scope="module", params=ENGINES)
def server(
    request: pytest.FixtureRequest, tmp_path_factory: pytest.TempPathFactory
) -> Iterator[Server]:
    with served(request.param, tmp_path_factory.mktemp("worlds")) as found:
        yield found


@pytest.fixture(scope="module")
def records(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return tmp_path_factory.mktemp("records")


def in_order(rows: dict[str, list[Row]]) -> dict[str, list[str]]:
    return {name: sorted(str(sorted(row.items())) for row in table) for name, table in rows.items()}


MANNERS = [running.Manner(), running.Manner(ask_first=False), running.Manner(recount=True)]


def take_back(server: Server, keeping: Keeping) -> running.Outcome:
    """Restore the last run, over a new connection."""
    with closing(server.open()) as database:
        record = find_record(keeping.folder, "last")
        back = restoring.restore(database, record, restoring.RestoreRequest(), Yes())
    assert back.reason in ("", "All of its rows are there.")
    return back.outcome


@given(data=st.data())
def test_a_deletion_does_exactly_what_the_model_says_and_can_be_taken_back(
    server: Server, records: Path, data: st.DataObject
) -> None:
    case: Case = data.draw(cases(server.engine, dressed=True))
    manner = data.draw(st.sampled_from(MANNERS))
    model = expect(case.world, case.table, case.matched, case.rules)
    key = case.world.keys[case.table]
    matched = [case.world.rows[case.table][place] for place in case.matched]
    make(server, case.world)
    database = server.open()
    keeping = Keeping(
        Path(tempfile.mkdtemp(dir=records)), facts={"kind": "delete", "asked": "", "address": ""}
    )
    try:
        rules = [rule if name is None else f"{name}={rule}" for name, rule in case.rules.items()]
        keys = tuple(",".join(str(row[name]) for name in key) for row in matched)
        request = Request(
            Asked(case.table, keys=keys, all_rows=True),
            read_rules(rules, database.schema),
            sample=0,
        )
        result = running.delete(database, request, manner, Yes(), keeping)
    finally:
        database.close()
    after = read(server, case.world)
    assert result.preview is not None
    knots = {"reason.cycle", "reason.ring"}
    if any(stop.reason.kind in knots for stop in result.preview.reach.stops):
        assert in_order(after) == in_order(case.world.rows)
        return
    stops = {(stop.table.label, str(stop.via)): stop.rows for stop in result.preview.reach.stops}
    assert stops == model.stops
    if model.stops:
        assert result.outcome is running.Outcome.STOPPED
        assert in_order(after) == in_order(case.world.rows)
        return
    if server.engine == "mariadb" and result.outcome is running.Outcome.ROLLED_BACK:
        # Rows that point at themselves, or at each other, through links without NULLs: it cannot,
        # and says so.
        assert any(
            link.child == link.parent and not any(link.nullable) for link in case.world.links
        )
        assert (result.status in (3, 5), in_order(after)) == (True, in_order(case.world.rows))
        return
    assert result.outcome is running.Outcome.COMMITTED, result.reason
    assert in_order(after) == in_order(model.after)
    assert result.tally is not None
    assert told(result.tally) == model.tally
    for outcome in (running.Outcome.COMMITTED, running.Outcome.NOTHING_TO_RESTORE):
        assert take_back(server, keeping) is outcome
        assert in_order(read(server, case.world)) == in_order(case.world.rows)
    with closing(server.open()) as database:
        # Proven the other way round it is the same.
        other = running.Manner(rehearse=True, ask_first=False, recount=not manner.recount)
        again = running.delete(database, request, other, Yes())
    assert again.tally is not None
    assert told(again.tally) == model.tally


def rights(data: st.DataObject, server: Server, case: Case) -> tuple[list[str], list[str]]:
    """What makes a new account that may do more or less with each table, and what drops it."""
    name, place = f"yt_{server.place[-8:]}", server.place.rpartition("/")[2]
    some = ["", "SELECT", "SELECT, DELETE", "SELECT, INSERT, UPDATE, DELETE", "ALL"]
    given = {table: data.draw(st.sampled_from(some)) for table in case.world.rows} | {
        case.table: "ALL"
    }
    if server.engine == "mariadb":
        user = f"{name}@'%'"
        made = [f"CREATE USER {user}", f"GRANT CREATE TEMPORARY TABLES ON {place}.* TO {user}"]
        made += [f"GRANT {data.draw(st.sampled_from(['PROCESS', 'USAGE']))} ON *.* TO {user}"]
        return made + _grant(server, given, user), [f"DROP USER {user}"]
    made = [
        f"CREATE ROLE {name} LOGIN",
        f"GRANT USAGE ON SCHEMA public TO {name}",
        "CREATE SCHEMA IF NOT EXISTS far",
    ]
    return (
        [*made, f"GRANT USAGE ON SCHEMA far TO {name}", *_grant(server, given, name)],
        [f"DROP OWNED BY {name}", f"DROP ROLE {name}"],
    )


def _grant(server: Server, given: dict[str, str], user: str) -> list[str]:
    return [
        f"GRANT {one} ON {server.quoted(table)} TO {user}" for table, one in given.items() if one
    ]


@pytest.mark.parametrize("server", ENGINES[1:], indirect=True)
@settings(max_examples=settings().max_examples // 2)
@given(data=st.data())
def test_an_account_that_sees_less_does_the_same_or_nothing(
    server: Server, records: Path, data: st.DataObject
) -> None:
    case: Case = data.draw(cases(server.engine, dressed=True))
    model = expect(case.world, case.table, case.matched, {None: "declared"})
    matched = [case.world.rows[case.table][place] for place in case.matched]
    keys = tuple(
        ",".join(str(row[name]) for name in case.world.keys[case.table]) for row in matched
    )
    make(server, case.world)
    made, dropped = rights(data, server, case)
    server.run(made)
    address = server.place.replace(
        {"mariadb": "root@"}.get(server.engine, "postgres@"), f"yt_{server.place[-8:]}@"
    )
    result = None
    try:
        with closing(open_database(address, Mode.WRITE, 5)) as database:
            request = Request(
                Asked(case.table, keys=keys, all_rows=True),
                read_rules([], database.schema),
                sample=0,
            )
            keeping = Keeping(
                Path(tempfile.mkdtemp(dir=records)),
                facts={"kind": "delete", "asked": "", "address": ""},
            )
            result = running.delete(database, request, running.Manner(), Yes(), keeping)
    except YeldroError:
        pass
    finally:
        server.run(dropped)
    outcome = result.outcome if result else running.Outcome.STOPPED
    done = outcome is running.Outcome.COMMITTED
    assert in_order(read(server, case.world)) == in_order(model.after if done else case.world.rows)
    assert not (done and model.stops)
    if result and result.tally and done:
        assert told(result.tally) == model.tally
    event(f"{server.engine}: {outcome.name}")


def told(tally: Tally) -> dict[str, tuple[int, int]]:
    found = {line.table.label: (line.deleted, line.detached) for line in tally.lines}
    return {name: done for name, done in found.items() if any(done)}
