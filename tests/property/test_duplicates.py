"""Laws of duplicates: groups, the row that stays and what decided are what a plain model says."""

from __future__ import annotations

from typing import Any

from hypothesis import given
from hypothesis import strategies as st

from tests.property.test_laws import server as server
from tests.servers import Server
from yeldro.core.duplicates.request import DuplicatesRequest, Nulls, read_duplicates, split_list
from yeldro.core.selection.selection import Asked
from yeldro.usecases import duplicates as workflow

Row = tuple[Any, ...]
NAMES = ("id", "a", "b", "note")
KEEP = [
    "fullest",
    "newest a",
    "highest b",
    "oldest a",
    "lowest b",
    "where note = 'x' OR coalesce(b, 1) = 1",
]
TEXTS = [None, "", " ", "\t \u3000", "\u2028", "x", 'it\'s, "y"']
ROWS = st.lists(st.tuples(*[st.none() | st.integers(0, 2)] * 2, st.sampled_from(TEXTS)))


def rank(rule: str, row: Row) -> Any:
    """What a rule sees of a row; the smallest stays."""
    _, a, b, note = row
    value = {"a": a, "b": b}.get(rule[-1])
    if rule == "fullest":
        return sum(cell is None or str(cell).strip() == "" for cell in row)
    if rule.startswith("where"):
        return not (note == "x" or b in (None, 1))
    return (
        value is None,
        value if value is None else -value if rule[:3] in ("new", "hig") else value,
    )


@given(data=st.data())
def test_groups_are_what_the_model_says(server: Server, data: st.DataObject) -> None:
    rows = [(number, *cells) for number, cells in enumerate(data.draw(ROWS), 1)]
    same = data.draw(st.lists(st.sampled_from(NAMES[1:]), min_size=1, max_size=2, unique=True))
    keep = data.draw(st.lists(st.sampled_from(KEEP), max_size=3, unique=True))
    nulls = data.draw(st.sampled_from(list(Nulls)))
    server.clear()
    quoted = ["NULL" if row[3] is None else "'" + row[3].replace("'", "''") + "'" for row in rows]
    server.run(
        "CREATE TABLE marks (id INTEGER PRIMARY KEY, a INTEGER, b INTEGER, note VARCHAR(20))",
        "CREATE TABLE hung (id INTEGER PRIMARY KEY, mark_id INTEGER, FOREIGN KEY (mark_id) REFERENCES marks (id))",
        *(
            f"INSERT INTO marks VALUES ({row[0]}, {row[1]}, {row[2]}, {note})".replace(
                "None", "NULL"
            )
            for row, note in zip(rows, quoted, strict=True)
        ),
        *(f"INSERT INTO hung VALUES ({row[0]}, {row[0] // 2 + 1})" for row in rows),
    )

    def equal(cell: Any) -> Any:
        """A text as its column compares it: the usual collations of MariaDB pay no heed to blanks
        at the end."""
        return cell.rstrip(" ") if isinstance(cell, str) and server.engine == "mariadb" else cell

    groups: dict[Row, list[Row]] = {}
    for row in rows:
        shared = tuple(row[NAMES.index(name)] for name in same)
        if nulls is Nulls.SAME or not any(
            cell is None or str(cell).strip() == "" for cell in shared
        ):
            groups.setdefault(tuple(map(equal, shared)), []).append(row)
    wanted = {}
    for shared, members in groups.items():
        members.sort(key=lambda row: [*(rank(rule, row) for rule in keep), row[0]])
        if len(members) > 1:
            first, second = members[:2]
            decided = next((rule for rule in keep if rank(rule, first) != rank(rule, second)), "")
            wanted[shared] = ([row[0] for row in members], decided)
    database = server.open()
    try:
        asked = Asked("marks", all_rows=True)
        rules = split_list(", ".join(keep))
        grouping = read_duplicates(database.schema, database.dialect, asked, same, rules, nulls)
        found = workflow.duplicates(database, DuplicatesRequest(grouping, None))
    finally:
        database.close()
    places = [NAMES.index(name) for name in same]
    listed = {
        tuple(equal(group.rows[0][place]) for place in places): (
            [row[0] for row in group.rows],
            group.decided,
        )
        for group in found.listing
    }
    assert listed == wanted
    assert (found.groups, found.surplus) == (
        len(wanted),
        sum(len(ids) - 1 for ids, _ in wanted.values()),
    )
    for group in found.listing:
        hanging = [sum(row[0] // 2 + 1 == one[0] for row in rows) for one in group.rows]
        assert [sum(one.values()) for one in group.dependents] == hanging
