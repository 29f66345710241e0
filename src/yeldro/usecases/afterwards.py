"""What is left to do once rows are gone: the room that they took is still taken, and the figures
of the planner are of before."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from msgspec.structs import replace

from yeldro.core.database.connection import Database
from yeldro.core.database.space import Space
from yeldro.core.model.fact import Fact, fact
from yeldro.core.model.plural import size_text
from yeldro.core.model.schema import Table
from yeldro.core.run.outcome import Outcome, RunResult
from yeldro.errors import YeldroError

# Of fewer deleted rows nobody would notice anything.
_MANY = 10_000


def look_afterwards(database: Database, result: RunResult, *, analyze: bool) -> RunResult:
    """The same result with what is to be said, after what was asked for is done. No fault changes
    how the run ended."""
    if result.outcome is not Outcome.COMMITTED or result.tally is None:
        return result
    lines = [line for line in result.tally.lines if line.deleted]
    tables = [line.table for line in lines]
    if not analyze and sum(line.deleted for line in lines) < _MANY:
        return result
    try:
        return replace(result, afterwards=tuple(_find(database, tables, analyze=analyze)))
    except KeyboardInterrupt:  # nobody wants to know any more
        return result
    except YeldroError as error:
        return replace(result, afterwards=(fact("after.failed", reason=error.message),))


def _find(database: Database, tables: Sequence[Table], *, analyze: bool) -> Iterator[Fact]:
    statements = database.write_analyze(tables)
    if analyze:
        database.analyze(tables)
    sizes = ", ".join(map(_describe, database.measure(tables)))
    yield fact(f"after.{database.dialect}", sizes=sizes)
    kind = "after.analyzed" if analyze else "after.analyze"
    yield fact(kind, statements="; ".join(statements))


def _describe(space: Space) -> str:
    free = f" ({size_text(space.free)} free for new rows)" if space.free else ""
    return f"{space.place} {size_text(space.size)}{free}"
