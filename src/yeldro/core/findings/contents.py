"""What a look through one table finds in single columns: blanks beside NULLs, values of another
kind, days in several forms."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

from msgspec import Struct

from yeldro.core.database.connection import Database
from yeldro.core.findings.finding import Finding, Way
from yeldro.core.model.fact import Fact, fact
from yeldro.core.model.schema import Column, Family, Table

# How days are written as texts. A column of texts with several of these is a column of days.
DAY_FORMS = {
    "2024-01-31": "____-__-__%",
    "31.01.2024": "__.__.____%",
    "01/31/2024": "__/__/____%",
    "2024/01/31": "____/__/__%",
}
# So much of a column must be days, or a text that happens to look like one makes a finding.
_DAYS = 0.5


class Test(Struct, frozen=True):
    """A condition on one column, and what it is for: "null", "blank", a form of a day, or a kind of
    value that the column does not speak of."""

    column: Column
    purpose: str
    text: str


def list_tests(database: Database, table: Table) -> list[Test]:
    """What is asked of each row of a table at once."""
    tests = [
        Test(table.column(name), str(kind), text) for name, kind, text in database.write_odd(table)
    ]
    for column in table.columns:
        if column.family is Family.TEXT:
            name = database.write_name(column.name)
            tests += [
                Test(column, "null", f"{name} IS NULL"),
                Test(column, "blank", f"TRIM({name}) = ''"),
                *(Test(column, form, f"{name} LIKE '{like}'") for form, like in DAY_FORMS.items()),
            ]
    return tests


def find_in_contents(
    table: Table, rows: int, tests: Sequence[Test], counts: Sequence[int]
) -> Iterator[Finding]:
    """Judge a table by how many of its `rows` meet each test."""
    met = {
        (test.column.name, test.purpose): (test, count)
        for test, count in zip(tests, counts, strict=True)
        if count
    }
    for (name, purpose), (test, count) in met.items():
        if purpose == "blank" and (name, "null") in met:
            found = fact("finding.blank", column=name, rows=count, nulls=met[name, "null"][1])
            yield _show(table, count, found, test, columns=(name,))
        elif purpose not in ("null", "blank", *DAY_FORMS):
            found = fact(
                "finding.mixed", column=name, type=test.column.type, kind=purpose, rows=count
            )
            yield _show(table, count, found, test)
    for column in table.columns:
        forms = [met[column.name, form] for form in DAY_FORMS if (column.name, form) in met]
        filled = rows - met.get((column.name, "null"), (None, 0))[1]
        if len(forms) > 1 and sum(count for _, count in forms) >= _DAYS * filled:
            yield from _find_other_forms(table, forms)


def _find_other_forms(table: Table, forms: Sequence[tuple[Test, int]]) -> Iterator[Finding]:
    """The most common form is how it was meant; the others are what could be cleaned up."""
    usual, *others = sorted(forms, key=lambda one: -one[1])
    for test, count in others:
        about = {"column": test.column.name, "form": test.purpose, "usual": usual[0].purpose}
        yield _show(table, count, fact("finding.days", rows=count, **about), test)


def _show(table: Table, rows: int, found: Fact, test: Test, **more: Any) -> Finding:
    return Finding(rows, found, Way("preview", table, {"where": (test.text,), **more}))
