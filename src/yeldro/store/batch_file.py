"""`batches.jsonl`, the account of a run in batches: a line when one is about to be committed, and
one when it was. Each is on disk before the run goes on."""

from __future__ import annotations

import json
from collections.abc import Iterator
from pathlib import Path
from typing import NotRequired, TypedDict

from yeldro.errors import ArchiveFailed
from yeldro.store.disk import append_synced
from yeldro.store.run_facts import LineFacts

BATCHES = "batches.jsonl"
# Beside it: the keys of all rows that were chosen, as an archive of these columns alone.
KEYS = "keys.sqlite"
COMMITTING, COMMITTED, ROLLED_BACK = "committing", "committed", "rolled-back"


class BatchFacts(TypedDict):
    """One batch: the numbers and keys of the first and last row that it was to take, in key order;
    with `--behind`, how many seconds a replica was behind when it began."""

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


class BatchFile:
    """One of them. A fault is an ArchiveFailed."""

    def __init__(self, path: Path) -> None:
        self.path = path

    def add(self, facts: BatchFacts) -> None:
        try:
            append_synced(self.path, f"{json.dumps(facts, ensure_ascii=False)}\n")
        except OSError as error:
            raise ArchiveFailed(
                f"The run record {self.path} cannot be written: {error.strerror}."
            ) from error

    def read(self) -> list[BatchFacts]:
        """A batch each, as far as it has come. What was cut off by a crash was never relied on."""
        found: dict[int, BatchFacts] = {}
        for one in self._lines():
            found[one["batch"]] = {**found.get(one["batch"], one), **one}
        return list(found.values())

    def committed(self) -> list[BatchFacts]:
        return [one for one in self.read() if one["state"] == COMMITTED]

    def _lines(self) -> Iterator[BatchFacts]:
        if not self.path.exists():
            return
        for line in self.path.read_text(encoding="utf-8").splitlines(keepends=True):
            if line.endswith("\n"):
                yield self._read_line(line)

    def _read_line(self, line: str) -> BatchFacts:
        try:
            facts: BatchFacts = json.loads(line)
            return {**facts, "batch": int(facts["batch"]), "state": str(facts["state"])}
        except (ValueError, TypeError, KeyError):
            raise ArchiveFailed(f"{self.path} is damaged.") from None
