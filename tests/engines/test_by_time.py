"""What goes and what stays over time."""

from __future__ import annotations

from collections import Counter

import pytest

from tests.conftest import Yeldro
from tests.servers import Server

DAYS = ["2019-11-30", "2019-12-01", "2020-02-29", None, "2020-02-01", "2020-02-10", "2022-01-31"]


def fill(server: Server, days: list[str | None]) -> None:
    moments = {"postgresql": "TIMESTAMP", "mariadb": "DATETIME"}.get(server.engine, "TIMESTAMP")
    rows = [
        f"({number}, {(day and repr(day)) or 'NULL'}, {(day and repr(day + ' 07:30:00')) or 'NULL'})"
        for number, day in enumerate(days)
    ]
    server.run(
        f"CREATE TABLE gaugings (id INTEGER PRIMARY KEY, day DATE, at {moments} NULL)",
        f"INSERT INTO gaugings VALUES {', '.join(rows)}",
    )


@pytest.mark.parametrize("column", ["day", "at"])
@pytest.mark.parametrize(
    ("days", "length", "periods"),
    [
        (DAYS[:6], 7, 5),  # with the month between, and NULL
        ([*DAYS, "1990-05-01"], 4, 34),
        (DAYS[2:3] + DAYS[4:6], 10, 3),
    ],
)
def test_each_row_is_in_its_month_or_year_or_day(
    yeldro: Yeldro, server: Server, column: str, days: list[str | None], length: int, periods: int
) -> None:
    fill(server, days)
    line = ["preview", "gaugings", "--where", "id % 2 = 0", "--by-time", column]
    found = yeldro(*line, "--format", "json").document["by_time"]
    assert len(found) == periods
    for part, chosen in (("goes", days[::2]), ("stays", days[1::2])):
        expected = Counter(day and day[:length] for day in chosen)
        assert {one["period"]: one[part] for one in found if one[part]} == expected
    text = yeldro(*line).out
    assert f"by {column}" in text
    assert "█" in text
    assert "░" in text


@pytest.mark.parametrize(("column", "told"), [("id", "no days or moments"), ("nope", "no column")])
def test_what_has_no_time_is_told(yeldro: Yeldro, server: Server, column: str, told: str) -> None:
    fill(server, DAYS)
    found = yeldro("preview", "gaugings", "--all-rows", "--by-time", column)
    assert (found.status, told in found.err) == (2, True), found.err
