"""The unique index that keeps duplicates out, once they are gone."""

from __future__ import annotations

from yeldro.core.database.connection import Database
from yeldro.core.duplicates.request import DuplicatesRequest
from yeldro.core.model.schema import Family
from yeldro.core.selection.grouping import Grouping, Ignored, Same
from yeldro.errors import Refused, UsageError

# Types of which one value can stand for NULL in an index.
_SIMPLE = (Family.TEXT, Family.INTEGER, Family.NUMBER, Family.BOOLEAN)


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
    _check_kept_out(database, grouping)


def _check_kept_out(database: Database, grouping: Grouping) -> None:
    """Refused where no index here takes for the same what the grouping does."""
    same = ", ".join(part.text for part in grouping.same)
    if grouping.loose and not _can_ignore(database, grouping):
        raise Refused(
            f"A unique index on {same} would not keep texts that differ in what is ignored out.",
            "No index here ignores that.",
        )
    if not grouping.nulls_differ and not all(
        _can_hold_nulls(database, grouping, part) for part in grouping.same
    ):
        raise Refused(
            f"A unique index on {same} would not keep rows with NULLs out.",
            "No index here takes such NULLs for the same.",
        )


def is_special(request: DuplicatesRequest, blanks: int) -> bool:
    """Whether the index is more than one on plain columns of all rows."""
    grouping, table = request.grouping, request.table
    columns = [table.column(part.column) for part in grouping.same if part.column]
    nullable = any(column.nullable for column in columns)
    return bool(grouping.loose or blanks > 1 or (nullable and not grouping.nulls_differ))


def _can_ignore(database: Database, grouping: Grouping) -> bool:
    """Case and spaces, by the engine's own rules; no engine has one for accents."""
    wanted = {what for part in grouping.loose for what in part.ignored}
    return database.abilities.indexes_expressions and wanted <= {Ignored.CASE, Ignored.SPACE}


def _can_hold_nulls(database: Database, grouping: Grouping, part: Same) -> bool:
    """Where the engine indexes expressions, one can stand for a NULL of a simple type."""
    if part.column and not grouping.table.column(part.column).nullable:
        return True
    family = grouping.table.column(part.column).family if part.column else Family.OTHER
    return database.abilities.indexes_expressions and family in _SIMPLE
