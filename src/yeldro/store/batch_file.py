"""`batches.jsonl`, the journal of a run in batches: each attempt at a batch has a number of its
own, which is never used again, and a line for each state that it comes to. It only grows."""

from __future__ import annotations

import json
from collections.abc import Iterator
from datetime import UTC, datetime
from pathlib import Path
from typing import NotRequired, TypedDict

from yeldro.errors import ArchiveFailed
from yeldro.store.disk import append_synced
from yeldro.store.run_facts import LineFacts

BATCHES = "batches.jsonl"
# Beside it: the keys of all rows that were chosen, as an archive of these columns alone.
KEYS = "keys.sqlite"
# What an attempt comes to. A line "committing" is on disk before the commit is sent.
BEGUN, COMMITTING, COMMITTED, UNDONE, IN_DOUBT = (
    "begun",
    "committing",
    "committed",
    "undone",
    "in doubt",
)
STATES = (BEGUN, COMMITTING, COMMITTED, UNDONE, IN_DOUBT)
# As version 0.2 wrote it.
_FORMER = {"rolled-back": UNDONE}


class BatchFacts(TypedDict):
    """One attempt at a batch: the numbers and keys of the first and last row that it was to take,
    in key order; with `--behind`, how many seconds a replica was behind when it began. `batch` is
    the number that the batch has if it is committed; `reason` says why an attempt is in doubt."""

    attempt: int
    batch: int
    state: str
    at: str
    first: NotRequired[int]
    last: NotRequired[int]
    first_key: NotRequired[list[str]]
    last_key: NotRequired[list[str]]
    matched: NotRequired[int]
    rows: NotRequired[int]
    tally: NotRequired[list[LineFacts]]
    transaction: NotRequired[str]
    seconds: NotRequired[float]
    behind: NotRequired[float]
    reason: NotRequired[str]


class BatchFile:
    """One of them. A fault is an ArchiveFailed."""

    def __init__(self, path: Path) -> None:
        self.path = path

    def add(self, facts: BatchFacts) -> None:
        """Add a line. It is on disk when this returns, and so are those before it; but for the
        beginning of an attempt, after which nothing is relied on yet."""
        try:
            line = f"{json.dumps(facts, ensure_ascii=False)}\n"
            append_synced(self.path, line, at_once=facts["state"] != BEGUN)
        except OSError as error:
            raise ArchiveFailed(
                f"The run record {self.path} cannot be written: {error.strerror}."
            ) from error

    def read(self) -> list[BatchFacts]:
        """The attempts in the order in which they began, each as far as it has come. What was cut
        off by a crash was never relied on."""
        found: dict[int, BatchFacts] = {}
        for one in self._lines():
            found[one["attempt"]] = {**found.get(one["attempt"], one), **one}
        return list(found.values())

    def committed(self) -> list[BatchFacts]:
        return [one for one in self.read() if one["state"] == COMMITTED]

    def open(self) -> list[BatchFacts]:
        """The attempts of which it is not known what became of them."""
        return [one for one in self.read() if one["state"] in (COMMITTING, IN_DOUBT)]

    def settle(self, attempt: BatchFacts, state: str, reason: str = "") -> None:
        """Write down what became of an attempt."""
        line = BatchFacts(attempt=attempt["attempt"], batch=attempt["batch"], state=state, at=now())
        self.add({**line, "reason": reason} if reason else line)

    def _lines(self) -> Iterator[BatchFacts]:
        if not self.path.exists():
            return
        # Only this ends a line: a key may hold anything else that looks like an end.
        for line in self.path.read_bytes().split(b"\n")[:-1]:
            yield self._read_line(line)

    def _read_line(self, line: bytes) -> BatchFacts:
        try:
            facts: BatchFacts = json.loads(line)
            batch, state = int(facts["batch"]), str(facts["state"])
            state = _FORMER.get(state, state)
            if state not in STATES:
                raise ValueError(state)
            attempt = int(facts.get("attempt", batch))
            return {**facts, "attempt": attempt, "batch": batch, "state": state}
        except (ValueError, TypeError, KeyError, AttributeError):
            raise ArchiveFailed(f"{self.path} is damaged.") from None


def now() -> str:
    """The moment, with its zone."""
    return datetime.now(UTC).isoformat(timespec="milliseconds").replace("+00:00", "Z")
