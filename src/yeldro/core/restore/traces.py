"""What of a run shows in its tables: rows that it deleted and that are not there, or, where it
deleted none, rows that are as it cleared them."""

from __future__ import annotations

from collections.abc import Sequence

from msgspec import Struct

from yeldro.core.database.archive_format import Portion, Standing
from yeldro.core.model.action import Action


class Traces(Struct, frozen=True):
    """Of `rows` of a run, `left` show that it was committed, and was not taken back; `whole` are
    in their tables as they were before it. The others prove nothing: somebody else has changed
    them, or taken their keys."""

    left: int
    rows: int
    cleared: bool = False
    whole: int = 0

    @property
    def committed(self) -> bool | None:
        """What the rows prove, None for nothing."""
        if not self.rows or self.left not in (0, self.rows):
            return None
        if self.left:
            return True
        return False if self.whole == self.rows else None


def find_proving(portions: Sequence[Portion]) -> list[Portion]:
    """The rows that can tell. A row that was cleared and then deleted would tell nothing."""
    deleted = [one for one in portions if one.action is Action.DELETE]
    return deleted or [one for one in portions if one.action is Action.CLEAR]


def find_traces(found: Sequence[tuple[Portion, Standing]]) -> Traces:
    """What shows of rows that can tell."""
    cleared = any(portion.action is Action.CLEAR for portion, _ in found)
    left = [standing.back if cleared else standing.absent for _, standing in found]
    return Traces(
        sum(left),
        sum(standing.rows for _, standing in found),
        cleared,
        sum(standing.same for _, standing in found),
    )
