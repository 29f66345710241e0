"""The engines that a script can be written for without a server."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from yeldro.core.model.schema import Schema
from yeldro.core.selection.guards import Guards
from yeldro.offline.oracle import Oracle
from yeldro.offline.postgresql import Postgresql
from yeldro.offline.script_writer import Task, write_entries
from yeldro.offline.sqlserver import SqlServer
from yeldro.offline.target import Comment, Target

TARGETS: Mapping[str, type[Target]] = {
    "sqlserver": SqlServer,
    "oracle": Oracle,
    "postgresql": Postgresql,
}


def write_offline(
    schema: Schema,
    target: Target,
    tasks: Sequence[Task],
    limits: Guards,
    archive: str,
    *,
    dry: bool,
    comment: Comment,
) -> list[str]:
    """The lines of the script."""
    entries = write_entries(schema, target, tasks, limits, archive)
    return target.render(entries, comment, dry=dry)
