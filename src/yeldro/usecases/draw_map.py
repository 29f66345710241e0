"""Draw how tables reference each other, and what a deletion would touch."""

from __future__ import annotations

from yeldro.core.database.connection import Database
from yeldro.core.model.schema import Table
from yeldro.core.reach.request import Request
from yeldro.core.survey.map import TableMap, make_map
from yeldro.usecases.look import preview


def draw_map(database: Database, root: Table | None, request: Request | None) -> TableMap:
    """Map the database or what depends on `root`; with a request, with what its deletion would
    touch.
    """
    if request is None:
        return make_map(database.schema, root)
    return make_map(database.schema, root, preview(database, request).reach)
