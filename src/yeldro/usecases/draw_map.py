"""Draw how tables reference each other, and what a deletion would touch."""

from __future__ import annotations

from yeldro.core.database.connection import Database
from yeldro.core.model.schema import Table
from yeldro.core.reach.reach import Reach
from yeldro.core.reach.request import Request
from yeldro.core.survey.map import TableMap, make_map
from yeldro.core.survey.picture import Picture, make_picture
from yeldro.usecases.look import preview
from yeldro.usecases.transaction import looking


def draw_map(database: Database, root: Table | None, request: Request | None) -> TableMap:
    """Map the database or what depends on `root`; with a request, with what its deletion would
    touch.
    """
    return make_map(database.schema, root, _look(database, request))


def draw_picture(database: Database, root: Table | None, request: Request | None) -> Picture:
    """The same as boxes and arrows, with the rows of each table."""
    reach = _look(database, request)
    found = make_map(database.schema, root, reach)
    with looking(database):
        rows = {table: database.count_rows(table) for table in found.tables}
    return make_picture(found, rows, reach.stops if reach else (), [root] if root else [])


def _look(database: Database, request: Request | None) -> Reach | None:
    return preview(database, request).reach if request else None
