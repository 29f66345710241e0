"""The unique index that keeps duplicates out, once they are gone."""

from __future__ import annotations

from yeldro.core.database.connection import Database
from yeldro.core.duplicates.request import DuplicatesRequest
from yeldro.core.selection.grouping import Ignored
from yeldro.errors import Refused, UsageError


def check_request(database: Database, request: DuplicatesRequest) -> None:
    """UsageError or Refused for what cannot be done, whatever the rows are."""
    if request.filling and request.table.shares_identity:
        raise UsageError(
            f"Nothing tells the rows of {request.table.label} apart, so --fill cannot be used."
        )
    if request.unique_name:
        _check_unique(database, request)


def _check_unique(database: Database, request: DuplicatesRequest) -> None:
    """Refused where a unique index on what makes rows the same would not keep such duplicates
    out.
    """
    name, grouping, table = request.unique_name, request.grouping, request.table
    texts = [one.text for one in grouping.same]
    known = database.schema.tables if database.abilities.shared_index_names else (table,)
    lasting = "A unique index on {} would not keep {} out."
    if any(index.name.lower() == name.lower() for one in known for index in one.indexes):
        raise Refused(f"There is an index {name} already.", "Give --then-unique another name.")
    if grouping.selection.conditions:
        raise Refused("--then-unique goes without --where: the index would be on all rows.")
    if any(one.expression for one in grouping.same) and not database.abilities.indexes_expressions:
        raise Refused(
            "This engine has no indexes on expressions.",
            "Add a generated column for it, and put the index on that.",
        )
    if grouping.loose:
        raise Refused(
            lasting.format(", ".join(texts), "texts that differ in what is ignored"),
            _near_index(database, request),
        )
    open_ones = [
        one.text for one in grouping.same if one.expression or table.column(one.column).nullable
    ]
    if not grouping.nulls_differ and open_ones:
        tests = [
            part for text in open_ones for part in (f"({text} IS NULL)", f"coalesce({text}, '')")
        ]
        whole = [*(text for text in texts if text not in open_ones), *tests]
        raise Refused(
            lasting.format(", ".join(texts), "rows with NULLs"),
            f"This one would: CREATE UNIQUE INDEX {name} ON {table.label} ({', '.join(whole)})."
            if database.abilities.indexes_expressions
            else "",
        )


def _near_index(database: Database, request: DuplicatesRequest) -> str:
    """The index on expressions that comes nearest to what is ignored, "" where there is none."""
    if not database.abilities.indexes_expressions:
        return ""
    cells = []
    for one in request.grouping.same:
        text = one.text
        text = f"trim({text})" if Ignored.SPACE in one.ignored else text
        cells.append(f"lower({text})" if Ignored.CASE in one.ignored else text)
    statement = (
        f"CREATE UNIQUE INDEX {request.unique_name} ON {request.table.label} ({', '.join(cells)})"
    )
    return f"The nearest that this engine has, by its own rules for case and blanks: {statement}."
