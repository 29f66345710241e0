"""Run records: a folder for each run, with `run.json`, `run.sql` and, in `rows.sqlite`, the
archive.

Folders are open to their owner only (0700), files too (0600). `run.json` is replaced whole and
synced, so that after a crash it says either what it said before or what it says now.
"""

from __future__ import annotations

import getpass
import json
import re
import shutil
import socket
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any, TextIO

from yeldro.core.database.archive_format import ELSEWHERE
from yeldro.core.reach.reach import Reach
from yeldro.core.run.tally import Tally
from yeldro.errors import ArchiveFailed, UsageError
from yeldro.store.disk import find_stranger, open_private, sync, write_private

try:
    import fcntl
except (
    ImportError
):  # not on Windows, where a run that is under way cannot be told from one that died
    fcntl = None  # type: ignore[assignment]

ARCHIVE = "rows.sqlite"
IN_DOUBT, RUNNING = "in-doubt", "running"
Facts = dict[str, Any]


@dataclass(frozen=True, slots=True)
class Keeping:
    """What of a run is kept, and where.

    `folder` holds the records. `archive` False keeps no copy of the rows; `table` keeps it in new
    tables of the database itself. `left_out` are the columns that a person does not want to be
    kept, `facts` what the record says from the start. `name` is what the record is called after,
    instead of its tables.
    """

    folder: Path
    archive: bool = True
    table: str = ""
    left_out: tuple[str, ...] = ()
    facts: Facts = field(default_factory=dict)
    name: str = ""


class RunRecord:
    """One folder. Every fault is an ArchiveFailed."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self._journal: TextIO | None = None
        self.facts: Facts = {}

    @property
    def name(self) -> str:
        return self.folder.name

    @property
    def archive(self) -> Path:
        return self.folder / ARCHIVE

    @property
    def outcome(self) -> str:
        """What the run came to. One whose process still holds its folder is under way."""
        outcome = str(self.facts["outcome"])
        return RUNNING if outcome == IN_DOUBT and self._is_held() else outcome

    @property
    def size(self) -> int:
        """Bytes of the archive on disk."""
        return self.archive.stat().st_size if self.archive.exists() else 0

    @property
    def restored(self) -> str:
        """What restorations have brought back so far: "", "partly", "yes" or "in-doubt"."""
        done = [one for one in self.facts.get("restored", ()) if not one.get("into")]
        if any(one["outcome"] == IN_DOUBT for one in done):
            return IN_DOUBT
        if any(one["whole"] for one in done if one["outcome"] == "committed"):
            return "yes"
        return "partly" if any(one["outcome"] == "committed" for one in done) else ""

    def start(self, facts: Facts) -> None:
        """Make the folder. From now on, until the record says otherwise, the run is in doubt."""
        with _translated(self.folder):
            for folder in (self.folder.parent, self.folder):
                if not folder.is_dir():
                    folder.mkdir(mode=0o700, parents=True)
            check_folder(self.folder.parent)
            self.facts = {
                "format": 1,
                "run": self.name,
                **facts,
                "outcome": IN_DOUBT,
                "restored": [],
            }
            self._journal = open_private(self.folder / "run.sql")
            if fcntl:
                fcntl.flock(self._journal, fcntl.LOCK_EX | fcntl.LOCK_NB)
            self.write()
            sync(self.folder.parent)

    def _is_held(self) -> bool:
        path = self.folder / "run.sql"
        if not fcntl or not path.exists() or self._journal:
            return bool(self._journal)
        with path.open("r", encoding="utf-8") as file:
            try:
                fcntl.flock(file, fcntl.LOCK_SH | fcntl.LOCK_NB)
            except OSError:
                return True
        return False

    def write(self, **facts: Any) -> None:
        """Change what the record says."""
        self.facts.update(facts)
        with _translated(self.folder):
            if self._journal:
                self._journal.flush()
            text = json.dumps(self.facts, ensure_ascii=False, indent=2, default=str)
            write_private(self.folder / "run.json", lambda file: file.write(f"{text}\n"))

    def note(self, statement: str) -> None:
        """Add a statement to run.sql."""
        if self._journal:
            with _translated(self.folder):
                self._journal.write(f"{statement.rstrip().rstrip(';')};\n")

    def close(self) -> None:
        if self._journal:
            with _translated(self.folder):
                self._journal.close()
            self._journal = None

    def drop(self) -> None:
        """Delete the folder and all that is in it."""
        with _translated(self.folder):
            shutil.rmtree(self.folder)

    def drop_archive(self) -> None:
        """A run that was rolled back needs no copy of its rows: they are where they were."""
        with _translated(self.folder):
            for name in (ARCHIVE, f"{ARCHIVE}-journal"):
                (self.folder / name).unlink(missing_ok=True)


def check_folder(folder: Path) -> None:
    """UsageError where somebody else could have put records there: what is restored comes from
    them."""
    if folder.is_dir() and (stranger := find_stranger(folder)):
        raise UsageError(
            f"The folder {folder} is not used for run records: {stranger}.",
            "Name another one with --archive, or take it over with chown and chmod 700.",
        )


def new_record(folder: Path, name: str) -> RunRecord:
    """A record that is yet to be started, under a name that nobody has."""
    plain = re.sub(r"[^0-9A-Za-z]+", "-", name).strip("-") or "run"
    start = f"{datetime.now(UTC):%Y%m%dT%H%M%SZ}-{plain}"
    found, number = start, 2
    while (folder / found).exists():
        found, number = f"{start}-{number}", number + 1
    return RunRecord(folder / found)


_TEXT_OR_NONE = (str, type(None))
# What a record says: the type of each value, [type] for a list of such; what ends with a question
# mark may be missing.
_SHAPE: dict[str, Any] = {
    **dict.fromkeys(
        (
            "run",
            "began",
            "kind",
            "asked",
            "table",
            "database",
            "address",
            "engine",
            "by",
            "outcome",
        ),
        str,
    ),
    **{
        "archive": bool,
        "reason": str,
        "archive_table": _TEXT_OR_NONE,
        "ended": _TEXT_OR_NONE,
        "final?": bool,
    },
    **{"cautions": [str], "left_out": [str], "transaction?": str, "seconds?": dict, "steps?": list},
    "gone?": {"rows": int, "of": int},
    "made_indexes?": [{"schema": _TEXT_OR_NONE, "table": str, "name": str}],
    "reach": [
        {"table": str, "rows": int, "action": str, "via": [str], "step?": str, "surplus?": bool}
    ],
    "tally": [
        {
            **{"table": str, "balanced": bool},
            **dict.fromkeys(
                (
                    "before",
                    "expected",
                    "deleted",
                    "detached",
                    "moved",
                    "filled",
                    "restored",
                    "after",
                ),
                int,
            ),
            "inserted_by_triggers": int,
        }
    ],
    "restored": [
        {
            **{
                "when": str,
                "by": str,
                "into": str,
                "rows": int,
                "whole": bool,
                "gone_after": int,
                "outcome": str,
            },
            **{"gone_before?": int, "dropped_indexes?": [str]},
        }
    ],
}


def read_record(folder: Path) -> RunRecord:
    """ArchiveFailed where it is no record, or says what no record says."""
    record = RunRecord(folder)
    path = folder / "run.json"
    try:
        record.facts = json.loads(path.read_text(encoding="utf-8"))
    except (OSError, ValueError, RecursionError):
        raise ArchiveFailed(f"{folder} holds no run record that can be read.") from None
    if isinstance(record.facts, dict) and record.facts.get("format", 1) != 1:
        raise ArchiveFailed(f"{path} was written by a newer Yeldro.")
    if not (_fits(record.facts, _SHAPE) and _is_moment(record.facts["began"])):
        raise ArchiveFailed(f"{folder} holds no run record that can be read.")
    return record


def _fits(value: Any, shape: Any) -> bool:
    """Whether a value has a shape such as `_SHAPE`."""
    match shape:
        case [inner]:
            return isinstance(value, list) and all(_fits(one, inner) for one in value)
        case dict():
            names = {name.removesuffix("?"): name for name in shape}
            return isinstance(value, dict) and all(
                _fits(value[name], shape[written]) if name in value else written.endswith("?")
                for name, written in names.items()
            )
        case _:
            return isinstance(value, shape)


def _is_moment(text: str) -> bool:
    try:
        return datetime.fromisoformat(text).tzinfo is not None
    except ValueError:
        return False


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


def find_record(folder: Path, name: str) -> RunRecord:
    """A record by its name, the beginning of its name, `last`, or the path of its folder."""
    if (Path(name) / "run.json").is_file():
        check_folder(Path(name))
        return read_record(Path(name))
    records = find_records(folder)
    found = (
        [record for record in records if record.name.startswith(name)]
        if name != "last"
        else records[:1]
    )
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


def now() -> str:
    return datetime.now(UTC).isoformat(timespec="milliseconds").replace("+00:00", "Z")


def who() -> str:
    """Who runs this, and on which machine."""
    try:
        return f"{getpass.getuser()}@{socket.gethostname()}"
    except (KeyError, OSError):
        return f"unknown@{socket.gethostname()}"


def describe_reach(reach: Reach) -> list[Facts]:
    return [
        {
            "order": place,
            "table": part.table.label,
            "rows": part.rows,
            "action": part.action,
            "via": list(map(str, part.via)),
        }
        for place, part in enumerate((part for part in reach.parts if part.rows), 1)
    ]


def describe_tally(tally: Tally) -> list[Facts]:
    return [
        {
            "table": line.table.label,
            "before": line.before,
            "expected": line.expected,
            "deleted": line.deleted,
            "detached": line.detached,
            "moved": line.moved,
            "filled": line.filled,
            "restored": line.restored,
            "inserted_by_triggers": line.inserted_by_triggers,
            "after": line.after,
            "balanced": line.balanced,
        }
        for line in tally.lines
    ]


@contextmanager
def _translated(folder: Path) -> Iterator[None]:
    try:
        yield
    except OSError as error:
        raise ArchiveFailed(
            f"The run record {folder} cannot be written: {error.strerror}.", ELSEWHERE
        ) from error


def is_older(record: RunRecord, days: int) -> bool:
    """Whether a run began more than so many days ago."""
    return datetime.now(UTC) - datetime.fromisoformat(record.facts["began"]) > timedelta(days=days)
