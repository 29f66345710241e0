"""One command with everything that would allow what blocks it now."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from yeldro.cli.request import as_previewed, make_line, read_request
from yeldro.core.database.connection import Database
from yeldro.core.model.fact import Fact
from yeldro.core.reach.reach import Stop
from yeldro.options import ColumnsOptions, DuplicatesOptions, PreviewOptions
from yeldro.report.preview import Next
from yeldro.usecases.look import find_stops

if TYPE_CHECKING:
    from yeldro.core.run.preview import Preview

# So often more is added: rows that are deleted after all have dependents of their own.
_ROUNDS = 10

# What lifts a stop: a switch, or a rule for a table; the careful one where there is a choice.
_SWITCHES: Mapping[str, tuple[str, Any]] = {
    "break_cycles": ("lift.cycles", True),
    "fill": ("lift.fill", "null"),
}
_RULES = {"lift.delete": "delete", "lift.detach": "detach", "lift.either": "detach"}


def find_next(database: Database, options: PreviewOptions, found: Preview) -> Next:
    """The command that would follow a preview."""
    asked = as_previewed(options)
    if isinstance(asked, ColumnsOptions):
        return _find_clearing(asked, found)
    return _find_deletion(database, options, found)


def _find_deletion(database: Database, options: PreviewOptions, found: Preview) -> Next:
    """What it adds is looked at again, for what that leads to."""
    detached: dict[str, None] = {}
    stops: Sequence[Stop] = found.reach.stops
    others = len(found.refusals) - len(stops)
    for _ in range(_ROUNDS):
        added = _find_options(options, stops, detached)
        if not added:
            break
        options, stops = options.but(**added), ()
        if _can_look_again(options):
            stops = find_stops(database, read_request(database, options))
    line = make_line("delete", options.but(expect=str(found.reach.matched)))
    return Next(line, is_blocked=bool(stops) or others > 0, detached=tuple(detached))


def _find_clearing(options: ColumnsOptions, found: Preview) -> Next:
    """Where the rows stay: that others let go of a cleared value is all that can be added."""
    detached: dict[str, None] = {}
    added = _find_options(options, found.reach.stops, detached)
    lifted = {stop for stop in found.reach.stops if stop.lift}
    others = len(found.refusals) - len(lifted if added else ())
    line = make_line("clear", options.but(**added, expect=str(found.reach.matched)))
    return Next(line, is_blocked=others > 0)


def _can_look_again(options: PreviewOptions) -> bool:
    """Standard input, and what a shell pipes through a name, cannot be read a second time."""
    return options.keys_from is None or Path(options.keys_from).is_file()


def find_removal(options: DuplicatesOptions, found: Preview) -> Next:
    """The same for surplus rows."""
    assert found.duplicates
    detached: dict[str, None] = {}
    added = _find_options(options, found.reach.stops, detached)
    others = len(found.refusals) - len(found.reach.stops)
    told = options.but(**added, expect=str(found.duplicates.surplus))
    blocked = bool(found.reach.stops and not added) or others > 0
    return Next(make_line("dedupe", told), is_blocked=blocked, detached=tuple(detached))


def _find_options(
    options: PreviewOptions | DuplicatesOptions | ColumnsOptions,
    stops: Sequence[Stop],
    detached: dict[str, None],
) -> dict[str, Any]:
    """The options that stops ask for and that are not there yet. What a person said about a table
    stays."""
    kinds = {stop.lift.kind for stop in stops if stop.lift}
    switches = {
        name: value
        for name, (kind, value) in _SWITCHES.items()
        if kind in kinds and not getattr(options, name, None)
    }
    said = {text.rpartition("=")[0] for text in options.dependents}
    rules = _find_rules([stop.lift for stop in stops if stop.lift], said)
    detached |= {label: None for label, rule in rules.items() if rule == "detach"}
    if not rules:
        return switches
    texts = (f"{label}={rule}" for label, rule in rules.items())
    return {**switches, "dependents": (*options.dependents, *texts)}


def _find_rules(lifts: Sequence[Fact], said: Collection[str]) -> dict[str, str]:
    """A rule for each table, but for those of which something is said: delete where one of its
    references needs it."""
    rules: dict[str, str] = {}
    for lift in lifts:
        if lift.kind in _RULES and (label := lift.about["table"].label) not in said:
            rule = _RULES[lift.kind]
            rules[label] = rule if rule == "delete" else rules.get(label, rule)
    return rules
