"""The rows that a request asks for."""

from __future__ import annotations

from msgspec.structs import replace

from yeldro.core.database.connection import Database
from yeldro.core.reach.request import Request
from yeldro.core.selection.selection import Selection, read_selection


def read_rows(database: Database, request: Request) -> Selection:
    """The selection that a request asks for, its listed keys sent to the database."""
    selection = read_selection(request.asked, database.schema, database.dialect)
    for name in request.show:
        selection.table.find_column(name)
    if selection.keys is None:
        return selection
    listed = database.load_keys(selection.table, selection.key_columns, selection.keys)
    return replace(selection, keys=None, listed=listed)
