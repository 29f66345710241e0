"""The unique index that keeps duplicates out, once they are gone."""

from __future__ import annotations

from yeldro.core.database.connection import Database
from yeldro.core.duplicates.request import DuplicatesRequest
from yeldro.core.selection.grouping import Grouping, Ignored
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
    known = database.schema.tables if database.abilities.shared_index_names else (table,)
    if any(index.name.lower() == name.lower() for one in known for index in one.indexes):
        raise Refused(f"There is an index {name} already.", "Give --then-unique another name.")
    if grouping.selection.conditions:
        raise Refused("--then-unique goes without --where: the index would be on all rows.")
    if (
        any(part.expression for part in grouping.same)
        and not database.abilities.indexes_expressions
    ):
        raise Refused(
            "This engine has no indexes on expressions.",
            "Add a generated column for it, and put the index on that.",
        )
    same = ", ".join(part.text for part in grouping.same)
    if grouping.loose:
        raise Refused(
            f"A unique index on {same} would not keep texts that differ in what is ignored out.",
            _near_index(database, request),
        )
    if not grouping.nulls_differ and _find_nullable(grouping):
        raise Refused(
            f"A unique index on {same} would not keep rows with NULLs out.",
            _null_index(database, request),
        )


def _find_nullable(grouping: Grouping) -> list[str]:
    """What makes rows the same and may be NULL, as it was written."""
    return [
        part.text
        for part in grouping.same
        if part.expression or grouping.table.column(part.column).nullable
    ]


def _null_index(database: Database, request: DuplicatesRequest) -> str:
    """The index that holds NULLs for the same, "" where the engine has none."""
    if not database.abilities.indexes_expressions:
        return ""
    nullable = _find_nullable(request.grouping)
    cells = [part.text for part in request.grouping.same if part.text not in nullable]
    for text in nullable:
        cells += [f"({text} IS NULL)", f"coalesce({text}, '')"]
    return (
        f"This one would: CREATE UNIQUE INDEX {request.unique_name} ON {request.table.label} "
        f"({', '.join(cells)})."
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
