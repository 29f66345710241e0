"""How a run ended."""

from __future__ import annotations

from enum import Enum
from typing import TYPE_CHECKING

from msgspec import Struct

if TYPE_CHECKING:
    from yeldro.core.model.fact import Fact
    from yeldro.core.run.batching import Progress
    from yeldro.core.run.preview import Preview
    from yeldro.core.run.tally import Tally


class Outcome(Enum):
    """Every way in which a run may end, with the sentence that says so."""

    COMMITTED = ("committed", "Committed.")
    ROLLED_BACK = ("rolled-back", "Everything was rolled back; nothing was changed.")
    REHEARSED = (
        "rehearsed",
        "Rehearsed: everything was done and rolled back; nothing was changed.",
    )
    IN_DOUBT = (
        "in-doubt",
        "Whether the database committed is not known: yeldro history finds out.",
    )
    DECLINED = ("declined", "Declined; nothing was changed.")
    STOPPED = ("stopped", "Stopped before the first change.")
    NOTHING_TO_RESTORE = (
        "nothing-to-restore",
        "There is nothing to restore.",
    )
    NOTHING_MATCHED = ("nothing-matched", "No row matches; there is nothing to delete.")

    def __init__(self, label: str, sentence: str) -> None:
        self.label = label
        self.sentence = sentence


class StepAccount(Struct, frozen=True, eq=False):
    """What one step found and did. Without a tally it did nothing, because nothing matched."""

    preview: Preview
    tally: Tally | None = None


class RunResult(Struct, frozen=True, eq=False):
    """How a run ended. `status` is the exit status that goes with it, `hint` what to do about
    `reason`, `run` the name of its record, "" where there is none, `notes` what a restoration left
    alone, `steps` what each step did where there are several; the tally is that of all of them.
    `progress` is how far a run in batches has come, `afterwards` what is left to do."""

    outcome: Outcome
    preview: Preview | None = None
    tally: Tally | None = None
    reason: str = ""
    hint: str = ""
    status: int = 0
    run: str = ""
    notes: tuple[str, ...] = ()
    steps: tuple[StepAccount, ...] = ()
    progress: Progress | None = None
    afterwards: tuple[Fact, ...] = ()
