"""A run record: a folder with `run.json`, `run.sql` and, in `rows.sqlite`, the archive.

Folders are open to their owner only (0700), files too (0600). `run.json` is replaced whole and
synced, so that after a crash it says either what it said before or what it says now.
"""

from __future__ import annotations

import getpass
import hashlib
import json
import re
import shutil
import socket
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from datetime import UTC, datetime
from pathlib import Path
from typing import Any, TextIO, cast

from msgspec import Struct, field

from yeldro.core.database.archive_format import ELSEWHERE
from yeldro.errors import ArchiveFailed, UsageError
from yeldro.store.batch_file import BATCHES, BatchFile
from yeldro.store.batch_file import now as now
from yeldro.store.disk import find_stranger, open_private, open_to_add, sync, write_private
from yeldro.store.run_facts import MarkFacts, RunFacts, is_run_facts

try:
    import fcntl
except ImportError:  # not on Windows: there a run under way cannot be told from one that died
    fcntl = None  # type: ignore[assignment]

ARCHIVE = "rows.sqlite"


IN_DOUBT, RUNNING, STOPPED = "in-doubt", "running", "stopped"


class Keeping(Struct, frozen=True):
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
    facts: Mapping[str, Any] = field(default_factory=dict)
    name: str = ""


class RunRecord:
    """One folder. Every fault is an ArchiveFailed."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self._journal: TextIO | None = None
        self.facts: RunFacts = cast(RunFacts, {})
        self.is_whole = True
        """Whether it fits its fingerprint. What somebody else has changed is not vouched for."""

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
        if outcome == IN_DOUBT:
            return RUNNING if self._is_held() else outcome
        # Somebody has taken it up, and is still being asked.
        waits = outcome == STOPPED and not self._journal and self._is_held()
        return RUNNING if waits else outcome

    @property
    def size(self) -> int:
        """Bytes of the archive on disk."""
        return self.archive.stat().st_size if self.archive.exists() else 0

    @property
    def restored(self) -> str:
        """What restorations have brought back so far: "", "partly", "yes" or "in-doubt"."""
        done = [one for one in self.facts.get("restored", ()) if not one.get("into")]
        if any(account["outcome"] == IN_DOUBT for account in done):
            return IN_DOUBT
        if any(account["whole"] for account in done if account["outcome"] == "committed"):
            return "yes"
        return "partly" if any(account["outcome"] == "committed" for account in done) else ""

    def start(self, facts: Mapping[str, Any]) -> None:
        """Make the folder. From now on, until the record says otherwise, the run is in doubt."""
        with _translated(self.folder):
            for folder in (self.folder.parent, self.folder):
                if not folder.is_dir():
                    folder.mkdir(mode=0o700, parents=True)
            check_folder(self.folder.parent)
            # In doubt from the first moment: a process that dies here leaves the truth behind.
            first = {"format": 1, "run": self.name, **facts}
            self.facts = cast(RunFacts, {**first, "outcome": IN_DOUBT, "restored": []})
            self._journal = open_private(self.folder / "run.sql")
            if fcntl:
                # The lock is gone with the process, however it ends, so it tells a run that is
                # under way.
                fcntl.flock(self._journal, fcntl.LOCK_EX | fcntl.LOCK_NB)
            self.write()
            sync(self.folder.parent)

    def hold(self) -> None:
        """Go on with a run that was stopped, and read what it says now. ArchiveFailed where
        somebody else does."""
        with _translated(self.folder):
            self._journal = open_to_add(self.folder / "run.sql")
            try:
                if fcntl:
                    fcntl.flock(self._journal, fcntl.LOCK_EX | fcntl.LOCK_NB)
            except BlockingIOError:
                raise ArchiveFailed(f"The run {self.name} is under way.") from None
        now_read = read_record(self.folder)
        self.facts, self.is_whole = now_read.facts, now_read.is_whole

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
        former = self.facts.get("fingerprints")
        self.facts.update(cast(RunFacts, facts))
        if self.is_whole and (mark := self.facts.get("fingerprints")):
            earlier = [*former.get("earlier", []), former.get("record", "")] if former else []
            renewed = {**mark, "earlier": earlier, "record": self.find_digest()}
            self.facts["fingerprints"] = cast(MarkFacts, renewed)
        with _translated(self.folder):
            if self._journal:
                self._journal.flush()
            text = json.dumps(self.facts, ensure_ascii=False, indent=2, default=str)
            write_private(self.folder / "run.json", lambda file: file.write(f"{text}\n"))

    def find_digest(self) -> str:
        """The SHA-256 of all that the record says, but for this itself."""
        mark = self.facts.get("fingerprints")
        own = (
            {name: mark[name] for name in ("files", "before", "open") if name in mark}
            if mark
            else None
        )
        facts = {**self.facts, "fingerprints": own}
        text = json.dumps(facts, ensure_ascii=False, sort_keys=True, default=str)
        return hashlib.sha256(text.encode("utf-8", "surrogatepass")).hexdigest()

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


def read_record(folder: Path) -> RunRecord:
    """ArchiveFailed where it is no record, or says what no record says."""
    record = RunRecord(folder)
    path = folder / "run.json"
    try:
        record.facts = json.loads(path.read_text(encoding="utf-8"))
    except (OSError, ValueError, RecursionError):
        raise ArchiveFailed(f"{folder} holds no run record that can be read.") from None
    # Told apart from a broken record: a newer Yeldro can restore it.
    if isinstance(record.facts, dict) and record.facts.get("format", 1) != 1:
        raise ArchiveFailed(f"{path} was written by a newer Yeldro.")
    if not (is_run_facts(record.facts)):
        raise ArchiveFailed(f"{folder} holds no run record that can be read.")
    mark = record.facts.get("fingerprints")
    record.is_whole = mark is None or mark.get("record") == record.find_digest()
    if "batches" in record.facts:
        BatchFile(folder / BATCHES).read()
    return record


def who() -> str:
    """Who runs this, and on which machine."""
    try:
        return f"{getpass.getuser()}@{socket.gethostname()}"
    except (KeyError, OSError):
        return f"unknown@{socket.gethostname()}"


@contextmanager
def _translated(folder: Path) -> Iterator[None]:
    try:
        yield
    except OSError as error:
        raise ArchiveFailed(
            f"The run record {folder} cannot be written: {error.strerror}.", ELSEWHERE
        ) from error
