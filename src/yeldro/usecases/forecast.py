"""A rehearsal of a few rows says what all of them would cost."""

from __future__ import annotations

import shutil
import tempfile
import time
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from pathlib import Path
from statistics import median

from msgspec.structs import replace

from yeldro.core.database.abilities import Mode
from yeldro.core.database.connection import Database
from yeldro.core.model.key_set import StoredKeys
from yeldro.core.model.schema import Table
from yeldro.core.reach.search import Batch
from yeldro.core.run.archive_pieces import find_lasting_key
from yeldro.core.run.execute import run_plan
from yeldro.core.run.forecast import Forecast, Sample, work_out
from yeldro.core.run.plan import make_plan
from yeldro.core.run.preview import Preview
from yeldro.errors import Refused
from yeldro.store.run_record import Keeping
from yeldro.usecases.record_keeper import Keeper
from yeldro.usecases.steps import BatchJob
from yeldro.usecases.transaction import LifeCycle, looking, undo

# Rows of the reach in the first sample, and in the largest that there may be. Each has three times
# as many as the one before, until one takes so many seconds: of less the noise is too much.
_FIRST, _MOST, _GROWS, _ENOUGH = 1_000, 60_000, 3, 0.3
_TIMES = 3


def look_and_forecast(
    database: Database, job: BatchJob, folder: Path | None, hold: float
) -> tuple[Preview, Forecast | None]:
    """What would go, and what that would cost. The copy would go into `folder`, None for none."""
    job.in_batches = True
    job.prepare()
    start = time.monotonic()
    with looking(database) as kept:
        shown = job.look(store=True)
        kept += job.find_kept(shown)
    taken = time.monotonic() - start
    return shown, forecast(database, job, shown, taken, folder, hold)


def forecast(
    database: Database,
    job: BatchJob,
    shown: Preview,
    looking: float,
    folder: Path | None,
    hold: float,
) -> Forecast | None:
    """What a run of what was `shown` would cost; None where nothing can be rehearsed alone, because
    it would be stopped, cannot be rolled back, or has no key.

    `looking` is how many seconds finding it took; the copy goes into `folder`, None for no copy.
    """
    if shown.refusals or not shown.reach.touched or not job.is_foretold:
        return None
    chosen = job.find_chosen(shown)
    key = find_lasting_key(database, chosen)
    if not key:
        return None
    numbered, total = job.number(chosen, key)
    start = time.monotonic()
    tables = dict.fromkeys(part.table for part in shown.reach.parts)
    rehearsal = Rehearsal(
        database, job, shown, numbered, {t: database.count_rows(t) for t in tables}
    )
    looking += time.monotonic() - start  # a run counts them once, too
    share = max(1.0, shown.reach.rows / max(1, total))
    with _rehearsing(folder) as keeping:
        samples = rehearsal.sample(share, total, keeping)
    free = shutil.disk_usage(_existing(folder)).free if folder else None
    found = work_out(shown.reach.rows, looking, samples, free, hold) if samples else None
    return replace(found, dialect=database.dialect, folder=str(folder or "")) if found else None


@contextmanager
def _rehearsing(folder: Path | None) -> Iterator[Keeping | None]:
    """A record of its own for the copies, which is gone afterwards."""
    if folder is None:
        yield None
        return
    with tempfile.TemporaryDirectory(dir=_existing(folder)) as place:
        yield Keeping(Path(place), facts={"kind": "forecast", "asked": "", "address": ""})


def _existing(folder: Path) -> Path:
    """The folder, or the nearest one above it that there is."""
    return next(place for place in (folder, *folder.parents) if place.is_dir())


class Rehearsal:
    """Deletes some rows with what depends on them, and rolls back. `known` is how many rows the
    tables have."""

    def __init__(
        self,
        database: Database,
        job: BatchJob,
        shown: Preview,
        numbered: StoredKeys,
        known: Mapping[Table, int],
    ) -> None:
        self.database = database
        self.job = job
        self.shown = shown
        self.numbered = numbered
        self.known = known

    def sample(self, share: float, total: int, keeping: Keeping | None) -> list[Sample]:
        """A row alone, and so many that it takes a while, each of them several times: a disk that
        is busy makes one take far longer than another. None where others hold what is taken.

        `share` is how many rows come with each of the `total` chosen ones.
        """
        samples = self._repeat(1, keeping)
        rows = _FIRST
        while samples:
            size = max(1, min(total, int(rows / share)))
            rows *= _GROWS
            is_last = size == total or rows > _MOST
            found = self._repeat(size, keeping, once=not is_last)
            if not found:
                return []
            if is_last or median(one.looking + one.changing for one in found) > _ENOUGH:
                return [*samples, *found]
        return []

    def _repeat(self, size: int, keeping: Keeping | None, *, once: bool = False) -> list[Sample]:
        """The same several times, or `once` where that shows that it is too little."""
        samples: list[Sample] = []
        while len(samples) < _TIMES and (found := self.take(size, keeping)):
            samples.append(found)
            if once and found.looking + found.changing < _ENOUGH:
                break
        return samples

    def take(self, size: int, keeping: Keeping | None) -> Sample | None:
        """So many of the chosen rows; None where others hold them."""
        database, table = self.database, self.job.selection.table
        listed = database.numbered.between(self.numbered, 1, size)
        keeper = Keeper(database, keeping, [table], lambda *_: None, LifeCycle())
        log, start = database.measure_log(), time.monotonic()
        database.begin(Mode.WRITE)
        try:
            found = self.job.look_at_batch(
                self.shown, listed, Batch(self.numbered, self.known.get(table))
            )
            looked = time.monotonic()
            if found.refusals:
                return None
            keeper.keep(found)
            plan = make_plan(found.reach, [scan.reference for scan in found.scanned])
            if not run_plan(database, plan, known=self.known, allowed=self.job.allowed).balanced:
                raise Refused("A rehearsal of some rows did not balance, and was rolled back.")
            done, logged = time.monotonic(), database.measure_log()
            return Sample(
                found.reach.rows,
                looked - start,
                done - looked,
                None if log is None or logged is None else logged - log,
                keeper.size if keeping else None,
            )
        finally:
            undo(database)
            keeper.drop()
