"""References without an index: many checks get one for as long as the run takes."""

from __future__ import annotations

from typing import Any

import pytest
import sqlalchemy as sa

from tests.engines.test_side_doors import delete
from tests.servers import Server
from yeldro.core.run.outcome import Outcome

INDEXES = {
    "sqlite": "SELECT name FROM sqlite_master WHERE type = 'index'",
    "postgresql": "SELECT indexname FROM pg_indexes WHERE schemaname = 'public'",
    "mariadb": "SELECT INDEX_NAME FROM information_schema.STATISTICS WHERE TABLE_SCHEMA = DATABASE()",
}


@pytest.mark.parametrize(
    ("weirs", "gates", "many"), [(20, 10_000, True), (20, 9_999, False), (19, 10_000, False)]
)
def test_a_run_with_many_checks(server: Server, weirs: int, gates: int, many: bool) -> None:
    """MariaDB makes such an index itself with the reference."""
    server.run(
        "CREATE TABLE weirs (id INTEGER PRIMARY KEY)",
        'CREATE TABLE "odd: gates" (id INTEGER PRIMARY KEY, "of: it" INTEGER, '
        'FOREIGN KEY ("of: it") REFERENCES weirs (id))'.replace('"', server.quote),
        f"INSERT INTO weirs VALUES {', '.join(f'({number})' for number in range(weirs + 1))}",
        f"INSERT INTO {server.quoted('odd: gates')} VALUES {', '.join(f'({n}, 0)' for n in range(gates))}",
    )
    sent: list[str] = []

    def note(_: Any, __: Any, statement: str, *___: Any) -> None:
        sent.append(statement)

    before = server.query(INDEXES[server.engine])
    sa.event.listen(sa.Engine, "before_cursor_execute", note)
    try:
        result = delete(server, "id > 0")
    finally:
        sa.event.remove(sa.Engine, "before_cursor_execute", note)
    assert result.outcome is Outcome.COMMITTED
    assert server.query(INDEXES[server.engine]) == before
    assert result.preview is not None
    wanted = many and server.engine != "mariadb"
    told = [one.name for one in result.preview.cautions if one.name != "reused-key"]
    assert told == ["unindexed-reference"] * wanted
    built = [
        place
        for place, statement in enumerate(sent)
        if statement.startswith(("CREATE INDEX", "DROP INDEX"))
    ]
    deleted = [place for place, statement in enumerate(sent) if statement.startswith("DELETE")]
    assert len(built) == 2 * wanted
    assert not wanted or built[0] < deleted[0] < built[1]
