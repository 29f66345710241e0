"""How a person agrees to a change: on the terminal, with --yes, and by name where the database is
protected."""

from __future__ import annotations

import sys

from yeldro.errors import UsageError
from yeldro.options import AgreeingOptions, RehearsalOptions
from yeldro.store.config import Place


def check_consent(options: AgreeingOptions, verb: str) -> bool:
    """Whether there is a question before the change. UsageError where nobody could answer it."""
    rehearses = _rehearses(options)
    if options.no_rollback and rehearses:
        raise UsageError("--no-rollback excludes --rehearse: not all of it could be taken back.")
    asks = not (options.yes or rehearses)
    if asks:
        other = ", or --rehearse" if isinstance(options, RehearsalOptions) else ""
        check_terminal(f"Give --yes to {verb} without a question{other}.")
    return asks


def _rehearses(options: AgreeingOptions) -> bool:
    return isinstance(options, RehearsalOptions) and options.rehearse


def check_terminal(way_out: str) -> None:
    """UsageError where there is nobody to ask."""
    # Without a terminal a question would be answered by whatever is piped in.
    if not sys.stdin.isatty():
        raise UsageError("Cannot ask for confirmation: not a terminal.", way_out)


def find_protection(options: AgreeingOptions, place: Place, *, asks: bool) -> str:
    """The name that must be typed before a change, "" where none must: the database is not
    protected, nothing is to last, or --confirm says it. UsageError where it must and nobody is
    asked."""
    # A rehearsal changes nothing that lasts.
    if not place.protected or _rehearses(options) or options.confirm == place.name:
        return ""
    if not asks:
        raise UsageError(
            f"The database {place.name} is protected: --yes alone is not enough.",
            f"Give --confirm {place.name} too.",
        )
    return place.name
