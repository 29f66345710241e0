"""The records of a folder."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from datetime import UTC, datetime, timedelta
from pathlib import Path

from yeldro.errors import ArchiveFailed, UsageError
from yeldro.store.run_record import RunRecord, check_folder, read_record


def find_records(folder: Path, unread: Callable[[str], None] = lambda _: None) -> list[RunRecord]:
    """All records, the newest first. What cannot be read is told to `unread`."""
    check_folder(folder)
    found = []
    for path in sorted(folder.glob("*/run.json")):
        try:
            found.append(read_record(path.parent))
        except ArchiveFailed as error:
            unread(error.message)
    return sorted(found, key=lambda record: str(record.facts["began"]), reverse=True)


def find_record_in(folders: Sequence[Path], name: str) -> RunRecord:
    """A record in the first of some folders that has it. UsageError where none has."""
    for folder in folders[1:]:
        # The first one is looked into last here: its error says what there is.
        if folder.is_dir() and not _has_record(folders[0], name) and _has_record(folder, name):
            return find_record(folder, name)
    return find_record(folders[0], name)


def _has_record(folder: Path, name: str) -> bool:
    return any(
        name == "last" or path.parent.name.startswith(name) for path in folder.glob("*/run.json")
    )


def find_record(folder: Path, name: str) -> RunRecord:
    """A record by its name, the beginning of its name, `last`, or the path of its folder."""
    if (Path(name) / "run.json").is_file():
        check_folder(Path(name))
        return read_record(Path(name))
    records = find_records(folder)
    if name == "last":
        found = records[:1]
    else:
        found = [record for record in records if record.name.startswith(name)]
    exact = [record for record in found if record.name == name]
    if exact or len(found) == 1:
        return (exact or found)[0]
    if found:
        raise UsageError(
            f"{name!r} may be any of {', '.join(one.name for one in found)}.", "Write more of it."
        )
    names = ", ".join(record.name for record in records[:5])
    hint = f"The latest are: {names}." if names else "There are no run records yet."
    raise UsageError(f"There is no run {name!r} in {folder}.", hint)


def is_older(record: RunRecord, days: int) -> bool:
    """Whether a run began more than so many days ago."""
    return datetime.now(UTC) - datetime.fromisoformat(record.facts["began"]) > timedelta(days=days)
