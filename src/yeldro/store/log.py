"""One line on how a run ended, for what nobody watches."""

from __future__ import annotations

import logging
import logging.handlers
import time

from yeldro.core.outcome import RunResult
from yeldro.errors import UsageError

_DONE = ("deleted", "detached", "moved", "filled")


def describe_run(name: str, result: RunResult) -> str:
    """What was done in all, without data of rows."""
    lines = result.tally.lines if result.tally else ()
    counts = {word: sum(getattr(line, word) for line in lines) for word in _DONE}
    done = ", ".join(f"{word} {rows}" for word, rows in counts.items() if rows)
    parts = [result.outcome.label, *([done] if done else []), *([result.reason] if result.reason else [])]
    return f"run {name}: {'; '.join(parts)}" + (f" ({result.run})" if result.run else "")


def open_log(place: str) -> logging.Handler:
    """A file to add lines to, or the system's log where `place` is syslog. UsageError where it cannot be written."""
    try:
        if place == "syslog":
            system = logging.handlers.SysLogHandler("/dev/log")
            system.setFormatter(logging.Formatter("yeldro: %(message)s"))
            return system
        file = logging.FileHandler(place, encoding="utf-8")
    except OSError as error:
        raise UsageError(f"The log {place} cannot be written: {error.strerror}.") from None
    formatter = logging.Formatter("%(asctime)sZ yeldro %(levelname)s %(message)s", "%Y-%m-%dT%H:%M:%S")
    formatter.converter = time.gmtime
    file.setFormatter(formatter)
    return file


def write_log(log: logging.Handler, message: str, *, failed: bool) -> None:
    level = logging.ERROR if failed else logging.INFO
    log.handle(logging.LogRecord("yeldro", level, "", 0, message.replace("\n", " "), None, None))
    log.close()
