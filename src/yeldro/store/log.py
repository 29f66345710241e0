"""One line on how a run ended, for what nobody watches."""

from __future__ import annotations

import errno
import logging
import logging.handlers
import time
from collections.abc import Mapping
from pathlib import Path

from yeldro.core.model.address import hide_passwords
from yeldro.core.model.visible import one_line
from yeldro.core.run.outcome import RunResult
from yeldro.errors import UsageError
from yeldro.store.disk import open_to_add

# Linux and the BSDs, macOS among them.
_SYSTEM_LOGS = ("/dev/log", "/var/run/syslog")
_DONE = ("deleted", "detached", "moved", "filled", "cleared")


def describe_run(name: str, database: str, values: Mapping[str, str], result: RunResult) -> str:
    """What was done in all, where and with which parameters, without data of rows."""
    lines = result.tally.lines if result.tally else ()
    counts = {word: sum(getattr(line, word) for line in lines) for word in _DONE}
    done = ", ".join(f"{word} {rows}" for word, rows in counts.items() if rows)
    parts = [
        result.outcome.label,
        *(f"{name} = {value}" for name, value in values.items()),
        *([done] if done else []),
        *([result.reason] if result.reason else []),
    ]
    return f"run {name} on {database}: {'; '.join(parts)}" + (
        f" ({result.run})" if result.run else ""
    )


class Log:
    """A file that lines are added to, or where `place` is syslog the system's log. UsageError where
    it cannot be written, before anything is run."""

    def __init__(self, place: str) -> None:
        try:
            self._handler = (
                _open_system_log()
                if place == "syslog"
                else logging.StreamHandler(open_to_add(Path(place)))
            )
        except OSError as error:
            raise UsageError(f"The log {place} cannot be written: {error.strerror}.") from None
        formatter = logging.Formatter(
            "%(asctime)sZ yeldro %(levelname)s %(message)s", "%Y-%m-%dT%H:%M:%S"
        )
        formatter.converter = time.gmtime
        if place == "syslog":
            formatter = logging.Formatter("yeldro: %(message)s")
        self._handler.setFormatter(formatter)
        self._handler.handleError = self._note_failure  # type: ignore[method-assign]  # else it prints a traceback
        self._failed = False

    def write(self, message: str, *, failed: bool) -> bool:
        """The one line. Returns whether it was written: what was run is done all the same."""
        level = logging.ERROR if failed else logging.INFO
        self._handler.handle(
            logging.LogRecord("yeldro", level, "", 0, hide_passwords(one_line(message)), None, None)
        )
        try:
            self._handler.close()
            if isinstance(self._handler, logging.StreamHandler):
                self._handler.stream.close()
        except OSError:
            self._failed = True
        return not self._failed

    def _note_failure(self, record: logging.LogRecord) -> None:
        self._failed = True


def _open_system_log() -> logging.Handler:
    place = next((one for one in _SYSTEM_LOGS if Path(one).exists()), "")
    if not place:
        raise FileNotFoundError(errno.ENOENT, "there is no system log on this machine")
    return logging.handlers.SysLogHandler(place)
