"""Fingerprints of run records: whether one still says, and holds, what it did when its run ended.

A record holds the SHA-256 of its files, and of the record before it, so that each vouches for
those before. What was done with a record later (a restoration, a run that went on) changes its own
fingerprint; the former ones stay known. Whoever can write to the folder can make all of them anew:
what proves something to others is a fingerprint that is kept elsewhere, as on a report.
"""

from __future__ import annotations

import hashlib
import json
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any

from msgspec import Struct

from yeldro.store.batch_file import BATCHES, KEYS
from yeldro.store.disk import append_synced
from yeldro.store.find_records import find_records
from yeldro.store.run_facts import FormerFacts, MarkFacts
from yeldro.store.run_record import ARCHIVE, IN_DOUBT, RUNNING, RunRecord, now, who
from yeldro.store.shape_file import SHAPE

_FILES = (ARCHIVE, "run.sql", BATCHES, KEYS, SHAPE)
DROPPED = "dropped.jsonl"


class Verdict(Struct, frozen=True):
    """What of a record is not as its run left it; `marked` is False where it has no fingerprints
    to tell by."""

    record: RunRecord
    faults: tuple[str, ...]
    marked: bool


def take_fingerprints(record: RunRecord) -> None:
    """When a run has ended and all files are closed. What was not whole before is not vouched
    for again."""
    if not record.is_whole:
        return
    folder = record.folder
    files = {name: _digest(folder / name) for name in _FILES if (folder / name).is_file()}
    record.write(fingerprints=MarkFacts(files=files, before=_find_former(record)))


def open_fingerprints(record: RunRecord) -> MarkFacts | None:
    """Those of a record whose run goes on: until it ends again, nobody vouches for its files."""
    mark = _mark_of(record)
    return MarkFacts(files={}, before=mark["before"], open=True) if mark else None


def _find_former(record: RunRecord) -> FormerFacts | None:
    """The latest record beside this one that has fingerprints."""
    for other in find_records(record.folder.parent):
        mark = other.facts.get("fingerprints")
        earlier = other.facts["began"] < record.facts["began"]
        if mark and earlier and other.outcome != IN_DOUBT:
            return FormerFacts(run=other.name, sha256=mark.get("record", ""))
    return None


def verify(records: Sequence[RunRecord]) -> list[Verdict]:
    """All records of a folder."""
    known = {record.name: record for record in records}
    dropped = _read_dropped(records[0].folder.parent) if records else {}
    return [
        Verdict(record, tuple(_find_faults(record, known, dropped)), _has_ended(record))
        for record in records
    ]


def _mark_of(record: RunRecord) -> MarkFacts | None:
    return record.facts.get("fingerprints")


def _has_ended(record: RunRecord) -> bool:
    """Whether there is something to tell by: what a run that goes on leaves is not final."""
    return _mark_of(record) is not None and record.outcome not in (IN_DOUBT, RUNNING)


def find_own_faults(record: RunRecord) -> list[str]:
    """What of a record is not as its run left it, whatever became of those before it."""
    mark = _mark_of(record)
    if mark is None or not _has_ended(record):
        return []
    return list(_find_file_faults(record, mark))


def _find_faults(
    record: RunRecord, known: Mapping[str, RunRecord], dropped: Mapping[str, set[str]]
) -> Iterator[str]:
    mark = _mark_of(record)
    if mark is None or not _has_ended(record):
        return
    yield from _find_file_faults(record, mark)
    if former := mark["before"]:
        yield from _find_faults_before(former, known, dropped)


def _find_file_faults(record: RunRecord, mark: MarkFacts) -> Iterator[str]:
    if not record.is_whole:
        yield "run.json was changed"
    if mark.get("open"):
        return
    for name, digest in mark["files"].items():
        path = record.folder / name
        if not path.is_file():
            yield f"{name} is missing"
        elif _digest(path) != digest:
            yield f"{name} was changed"
    for name in _FILES:
        if name not in mark["files"] and (record.folder / name).is_file():
            yield f"{name} was added"


def _find_faults_before(
    former: FormerFacts, known: Mapping[str, RunRecord], dropped: Mapping[str, set[str]]
) -> Iterator[str]:
    if former["run"] in known:
        if former["sha256"] not in _list_marks(known[former["run"]]):
            yield f"the record before it, {former['run']}, is another one"
    elif former["sha256"] not in dropped.get(former["run"], set()):
        yield f"the record before it, {former['run']}, is missing"


def _list_marks(record: RunRecord) -> list[str]:
    """The fingerprint of a record, and those that it had before."""
    mark = _mark_of(record)
    return [mark.get("record", ""), *mark.get("earlier", [])] if mark else []


def note_dropped(record: RunRecord) -> None:
    """Before a record is deleted on purpose: those after it still name it."""
    if marks := _list_marks(record):
        line = {"run": record.name, "at": now(), "by": who(), "sha256": marks}
        append_synced(record.folder.parent / DROPPED, f"{json.dumps(line)}\n")


def _read_dropped(folder: Path) -> dict[str, set[str]]:
    path = folder / DROPPED
    lines = path.read_bytes().split(b"\n") if path.is_file() else []
    found: dict[str, set[str]] = {}
    for line in lines:
        try:
            one: Any = json.loads(line)
            found.setdefault(str(one["run"]), set()).update(map(str, one["sha256"]))
        except (ValueError, KeyError, TypeError):
            continue  # a line that was cut off, or is none of ours, excuses nothing
    return found


def _digest(path: Path) -> str:
    with path.open("rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()
