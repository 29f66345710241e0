"""One command with everything that would allow what blocks it now."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any

from yeldro.cli.request import make_line, read_request
from yeldro.core.database.connection import Database
from yeldro.core.reach.reach import Stop
from yeldro.core.run.preview import Preview
from yeldro.options import DuplicatesOptions, PreviewOptions
from yeldro.report.preview import Next
from yeldro.usecases.look import find_stops

# So often more is added: rows that are deleted after all have dependents of their own.
_ROUNDS = 10


def find_deletion(database: Database, options: PreviewOptions, found: Preview) -> Next:
    """The command that would follow a preview. What it adds is looked at again, for what that leads
    to."""
    detached: dict[str, None] = {}
    stops: Sequence[Stop] = found.reach.stops
    others = len(found.refusals) - len(stops)
    for _ in range(_ROUNDS):
        added = _find_options(options, stops, detached)
        if not added:
            break
        options, stops = replace(options, **added), ()
        # Standard input cannot be read a second time.
        if options.keys_from != "-":
            stops = find_stops(database, read_request(database, options))
    line = make_line("delete", replace(options, expect=str(found.reach.matched)))
    return Next(line, is_blocked=bool(stops) or others > 0, detached=tuple(detached))


def find_removal(options: DuplicatesOptions, found: Preview) -> Next:
    """The same for surplus rows."""
    assert found.duplicates
    detached: dict[str, None] = {}
    added = _find_options(options, found.reach.stops, detached)
    others = len(found.refusals) - len(found.reach.stops)
    told = replace(options, **added, expect=str(found.duplicates.surplus))
    blocked = bool(found.reach.stops and not added) or others > 0
    return Next(make_line("dedupe", told), is_blocked=blocked, detached=tuple(detached))


def _find_options(
    options: PreviewOptions | DuplicatesOptions,
    stops: Sequence[Stop],
    detached: dict[str, None],
) -> dict[str, Any]:
    """The options that stops ask for and that are not there yet. What a person said about a table
    stays."""
    known = {text.rpartition("=")[0] for text in options.dependents}
    rules: dict[str, str] = {}
    added: dict[str, Any] = {}
    for stop in stops:
        kind = stop.lift.kind if stop.lift else ""
        if kind == "lift.cycles":
            added["break_cycles"] = True
        elif kind == "lift.fill":
            added["fill"] = "null"
        elif kind == "lift.no-fill":
            continue  # nothing that could be added
        elif kind and stop.lift:
            label = stop.lift.about["table"].label
            if label not in known:
                # One way for all references of a table: delete where one of them needs it.
                rule = "delete" if kind == "lift.delete" else rules.get(label, "detach")
                rules[label] = rule
    for label, rule in rules.items():
        if rule == "detach":
            detached[label] = None
    added = {name: value for name, value in added.items() if not getattr(options, name)}
    if rules:
        texts = (f"{label}={rule}" for label, rule in rules.items())
        added["dependents"] = (*options.dependents, *texts)
    return added
