"""Batches of any size, stopped and gone on with anywhere, end where one transaction ends."""

from __future__ import annotations

import tempfile
from contextlib import closing
from pathlib import Path

from hypothesis import event, given
from hypothesis import strategies as st

from tests.property.databases import make, read
from tests.property.model import expect
from tests.property.test_laws import Yes, in_order, records, server, take_back
from tests.property.worlds import Case, cases
from tests.servers import Server
from yeldro.core.reach.request import Request
from yeldro.core.reach.rules import read_rules
from yeldro.core.run.batching import Pace
from yeldro.core.run.outcome import Outcome, RunResult
from yeldro.core.selection.selection import Asked
from yeldro.errors import UsageError
from yeldro.store.find_records import find_record
from yeldro.store.run_record import Keeping
from yeldro.usecases.restore import RestoreRequest, restore
from yeldro.usecases.resume import ResumedRun, check_resumable
from yeldro.usecases.run import Manner
from yeldro.usecases.run import run as run_steps
from yeldro.usecases.steps import Deletion

__all__ = ["records", "server"]


def run(server: Server, case: Case, manner: Manner, keeping: Keeping) -> RunResult:
    """The first batches, or the next ones, over a new connection."""
    key = case.world.keys[case.table]
    matched = [case.world.rows[case.table][place] for place in case.matched]
    keys = tuple(",".join(str(row[name]) for name in key) for row in matched)
    rules = [rule if name is None else f"{name}={rule}" for name, rule in case.rules.items()]
    with closing(server.open()) as database:
        asked = Asked(case.table, keys=keys, all_rows=True)
        request = Request(asked, read_rules(rules, database.schema), sample=0)
        job = Deletion(database, request)
        if not any(keeping.folder.iterdir()):
            return run_steps(database, [job], manner, Yes(), keeping)
        record = find_record(keeping.folder, "last")
        check_resumable(database, record)
        return ResumedRun(database, job, manner, Yes(), record).run()


def take_back_in_batches(server: Server, keeping: Keeping, rows: int) -> Outcome:
    """Two batches at a time, each time over a new connection."""
    while True:
        with closing(server.open()) as database:
            record = find_record(keeping.folder, "last")
            request = RestoreRequest(pace=Pace(rows, batches=2))
            try:
                back = restore(database, record, request, Yes())
            except UsageError:  # batches changed rows that stayed
                return take_back(server, keeping)
        event(f"{server.engine}: taken back in {back.progress and back.progress.batches}")
        if back.outcome is not Outcome.STOPPED:
            assert record.restored == "yes"
            return back.outcome
        assert back.progress is not None
        assert (back.status, back.progress.batches, record.restored) == (0, 2, "partly"), (
            back.reason
        )


@given(data=st.data())
def test_batches_end_where_one_transaction_ends(
    server: Server, records: Path, data: st.DataObject
) -> None:
    case: Case = data.draw(cases(server.engine, dressed=True))
    model = expect(case.world, case.table, case.matched, case.rules)
    ask = data.draw(st.booleans())
    pace = Pace(data.draw(st.integers(1, 8)), batches=data.draw(st.sampled_from([None, 1, 2])))
    manner = Manner(ask_first=ask, pace=pace)
    facts = {"kind": "delete", "asked": "", "address": ""}
    # Rows that are not copied may go as they are found.
    archive = data.draw(st.booleans())
    keeping = Keeping(Path(tempfile.mkdtemp(dir=records)), archive=archive, facts=facts)
    make(server, case.world)
    while (result := run(server, case, manner, keeping)).progress and not result.status:
        assert result.progress.batches > 0
        if result.outcome is Outcome.COMMITTED:
            break
        assert (result.outcome, result.run != "") == (Outcome.STOPPED, True)
    event(f"{server.engine}: {result.outcome.name}, {result.progress and result.progress.batches}")
    after = in_order(read(server, case.world))
    if result.outcome is not Outcome.COMMITTED:
        # What one transaction would not do, several do not do either.
        stops = result.preview and result.preview.reach.stops
        assert stops or (server.engine == "mariadb" and result.status in (3, 5)), result.reason
        assert after == in_order(case.world.rows)
        return
    assert after == in_order(model.after)
    assert result.tally is not None
    lines = {line.table.label: line.deleted for line in result.tally.lines}
    wanted = {name: deleted for name, (deleted, _) in model.tally.items() if deleted}
    assert {name: rows for name, rows in lines.items() if rows} == wanted
    if not archive:
        return
    rows = data.draw(st.sampled_from([None, 1, 4, 50]))
    back = (
        take_back(server, keeping) if rows is None else take_back_in_batches(server, keeping, rows)
    )
    assert back is Outcome.COMMITTED
    assert in_order(read(server, case.world)) == in_order(case.world.rows)
