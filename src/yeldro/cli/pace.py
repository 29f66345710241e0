"""How batches follow each other, as a person says it."""

from __future__ import annotations

import re
from collections.abc import Sequence
from datetime import datetime, timedelta

from yeldro.core.cleanup.cleanup import Step
from yeldro.core.model.plural import count
from yeldro.core.run.batching import Pace
from yeldro.errors import UsageError
from yeldro.options import PaceOptions, RhythmOptions, RunOptions, options_of

_UNITS = {"s": 1, "m": 60, "h": 3600}


def read_pace(options: RhythmOptions, size: str | None, now: datetime) -> Pace | None:
    """`size` is what was said of a batch; None where all goes in one transaction. UsageError for
    what is said of batches then."""
    if size is None:
        for one in options_of(PaceOptions):
            if getattr(options, one.name, one.default) != one.default:
                raise UsageError(f"{one.flag} goes with --batch.")
        return None
    limits = [_read_duration(options.lasting), _read_time(options.until, now)]
    return Pace(
        _read_size(size),
        options.hold,
        options.pause,
        min((limit for limit in limits if limit is not None), default=None),
        options.batches,
        options.behind,
        isinstance(options, PaceOptions) and options.even_if_changed,
    )


def describe_pace(pace: Pace | None) -> str:
    """How the rows go, as a question goes on; "" where it is all at once."""
    if pace is None:
        return ""
    if pace.rows is None:
        return f", in batches of about {pace.hold:g} seconds"
    return f", in batches of {count(pace.rows, 'row')}"


def read_step_pace(options: RunOptions, steps: Sequence[Step]) -> Pace | None:
    """That of a step of a file. UsageError where it would share a transaction with others."""
    sizes = [step.options["batch"] for step in steps if "batch" in step.options]
    if sizes and len(steps) > 1:
        raise UsageError(
            "A step in batches cannot share a transaction with others.",
            "Run the steps one at a time, with --step.",
        )
    return read_pace(options, str(sizes[0]) if sizes else None, datetime.now().astimezone())


def _read_size(text: str) -> int | None:
    if text == "auto":
        return None
    if not text.isdecimal() or not int(text):
        raise UsageError(f"--batch {text!r} is neither a number of rows nor auto.")
    return int(text)


def _read_duration(text: str | None) -> float | None:
    if text is None:
        return None
    found = re.fullmatch(r"(\d+)([smh])", text)
    if not found:
        raise UsageError(f"--for {text!r} is not a duration.", "Write 90s, 20m or 2h.")
    return float(found[1]) * _UNITS[found[2]]


def _read_time(text: str | None, now: datetime) -> float | None:
    """Seconds until the clock next says so."""
    if text is None:
        return None
    try:
        end = datetime.strptime(text, "%H:%M").replace(tzinfo=now.tzinfo)
    except ValueError:
        raise UsageError(f"--until {text!r} is not a time of day.", "Write HH:MM.") from None
    at = now.replace(hour=end.hour, minute=end.minute, second=0, microsecond=0)
    return ((at if at > now else at + timedelta(days=1)) - now).total_seconds()
