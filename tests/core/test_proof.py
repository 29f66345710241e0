"""Who proves what: by the schema, and by what the database counted."""

from __future__ import annotations

from collections import Counter
from types import SimpleNamespace
from typing import Any

import pytest

from yeldro.core.database.change_counts import Changes, TableChanges
from yeldro.core.model.action import Action
from yeldro.core.model.key_set import StoredKeys
from yeldro.core.model.schema import Reference, ReferentialAction, Table, TableName, Trigger
from yeldro.core.reach.reach import Part, Reach
from yeldro.core.run.proof import Counted, Done, find_vouched

RULE = ReferentialAction


def table(name: str, *triggers: Trigger) -> Table:
    key = TableName("s", name)
    return Table(
        key, name, "table", (), ("id",), ("id",), triggers=triggers, parts=frozenset([key])
    )


WEIRS, GATES = table("weirs"), table("gates")
WATCHED, SLEEPING = (
    table("gates", Trigger("t", "BEFORE DELETE", enabled=enabled)) for enabled in (True, False)
)


@pytest.mark.parametrize(
    ("child", "facts", "keeps", "looks"),
    [
        (GATES, {}, True, False),
        (GATES, {"enforced": False}, True, True),
        (GATES, {"declared": False}, True, True),
        (GATES, {}, False, True),
        (WATCHED, {}, True, True),
        (WATCHED, {"on_delete": RULE.CASCADE}, True, True),
        (WATCHED, {"on_delete": RULE.SET_NULL}, True, True),
        (SLEEPING, {"on_delete": RULE.CASCADE}, True, False),
    ],
)
def test_what_the_database_does_not_prove_is_looked_for(
    child: Table, facts: dict[str, Any], keeps: bool, looks: bool
) -> None:
    said = {"on_delete": RULE.NO_ACTION, **facts}
    reference = Reference("", child, ("weir_id",), WEIRS, ("id",), **said)
    schema = SimpleNamespace(by_name={one.name: one for one in (WEIRS, child)})
    database: Any = SimpleNamespace(schema=schema, keeps=lambda _: keeps)
    assert Counted(database, everything=False).must_look(reference) is looks
    assert Counted(database, everything=True).must_look(reference)


# What the statements deleted in each of the two tables, what the database counted in total, what it
# counted by table, and the tables that it vouches for; two rows of each were to go.
COUNTS: list[tuple[Table, tuple[int, int], int, dict[str, tuple[int, int]] | None, set[str]]] = [
    (GATES, (2, 2), 4, None, {"weirs", "gates"}),
    (GATES, (2, 2), 5, None, set()),
    (GATES, (2, 1), 3, None, set()),
    (WATCHED, (2, 2), 4, None, set()),
    (SLEEPING, (2, 2), 4, None, {"weirs", "gates"}),
    (GATES, (2, 2), 4, {"weirs": (2, 0), "gates": (2, 0)}, {"weirs", "gates"}),
    (GATES, (2, 2), 5, {"weirs": (2, 0), "gates": (3, 0)}, {"weirs"}),
    (GATES, (2, 2), 5, {"weirs": (2, 0), "gates": (2, 1)}, {"weirs"}),
    (WATCHED, (2, 2), 4, {"weirs": (2, 0), "gates": (2, 0)}, {"weirs"}),
]


@pytest.mark.parametrize(("child", "deleted", "total", "counts", "vouched"), COUNTS)
def test_the_database_vouches_where_nothing_else_happened(
    child: Table,
    deleted: tuple[int, int],
    total: int,
    counts: dict[str, tuple[int, int]] | None,
    vouched: set[str],
) -> None:
    tables = (WEIRS, child)
    sets = tuple((StoredKeys(one, ("id",), "k"), 2) for one in tables)
    parts = tuple(Part(one, Action.DELETE, 2, ()) for one in tables)
    selection: Any = SimpleNamespace(table=WEIRS)
    reach = Reach(selection, 2, 9, sets, (), (), (), parts, ())
    told = {
        TableName("s", name): TableChanges(inserted, 0, gone)
        for name, (gone, inserted) in (counts or {}).items()
    }
    schema = SimpleNamespace(by_name={one.name: one for one in tables})
    database: Any = SimpleNamespace(schema=schema)
    done = Done(Counter(dict(zip(tables, deleted, strict=True))))
    found = find_vouched(database, reach, Changes(total, told or None), done, ())
    assert {one.label for one in found} == vouched
