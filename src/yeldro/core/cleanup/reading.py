"""What a cleanup file says, read strictly: every fault is found at once, each with its place."""

from __future__ import annotations

import datetime
from collections.abc import Iterator, Mapping, Sequence
from decimal import Decimal
from typing import Any

from msgspec import Struct

from yeldro.core.cleanup.cleanup import Cleanup, Param, Step, as_list
from yeldro.core.cleanup.keys import GUARDS, PARAM, SEAL, STEP_KEYS, TOP, as_keys
from yeldro.core.cleanup.kinds import Kind, is_whole
from yeldro.core.model.lookup import nearest
from yeldro.core.model.relative_days import is_relative
from yeldro.core.selection.parameters import find_names
from yeldro.core.selection.selection import find_unfit
from yeldro.options import RowsOptions, keys_of

Path = tuple[str | int, ...]


class Fault(Struct, frozen=True):
    """What is wrong at a place of the file, and what would be right."""

    path: Path
    message: str


def read_cleanup(data: Mapping[str, Any]) -> tuple[Cleanup, list[Fault]]:
    """What the data of a file mean, and every fault in them."""
    faults = list(_find_faults(data, TOP, ()))
    params, guards = (
        entry if isinstance(entry := data.get(name), Mapping) else {}
        for name in ("params", "guards")
    )
    steps = data.get("steps")
    named = tuple(_read_params(params, faults))
    faults += _find_faults(guards, GUARDS, ("guards",))
    listed = steps if isinstance(steps, list) else []
    if not listed and "steps" not in {fault.path[0] for fault in faults if fault.path}:
        faults.append(Fault((), "there are no steps; each stands under [[steps]]"))
    found = [
        step for place, entry in enumerate(listed) if (step := _read_step(entry, place, faults))
    ]
    faults += _find_doubled(listed)
    faults += _find_unknown(listed, params)
    title, description, database = (
        str(data.get(name, "")) for name in ("title", "description", "database")
    )
    return Cleanup(title, description, database, named, dict(guards), tuple(found)), faults


def _read_params(params: Mapping[str, Any], faults: list[Fault]) -> Iterator[Param]:
    for name, entry in params.items():
        path: Path = ("params", name)
        if not name.isidentifier():
            faults.append(
                Fault(path, f"{name!r} cannot stand behind a colon; use letters, digits and _")
            )
        if not isinstance(entry, Mapping):
            faults.append(Fault(path, "it must be a table, such as [params.day]"))
            continue
        before = len(faults)
        faults += _find_faults(entry, PARAM, path)
        kind, allowed = entry.get("type", "text"), entry.get("allowed", [])
        if len(faults) == before:
            values = [("allowed", one) for one in allowed] + [
                ("default", entry[n]) for n in ("default",) if n in entry
            ]
            for key, value in values:
                if not _fits(value, kind):
                    faults.append(
                        Fault((*path, key), f"{_written(value)} is not of the type {kind}")
                    )
            if allowed and "default" in entry and entry["default"] not in allowed:
                faults.append(
                    Fault((*path, "default"), "the default is not among the allowed values")
                )
        if len(faults) == before:
            yield Param(name, kind, entry.get("default"), entry.get("ask", ""), tuple(allowed))


def _fits(value: Any, kind: str) -> bool:
    match kind:
        case "integer":
            return is_whole(value)
        case "number":
            return is_whole(value) or isinstance(value, float | Decimal)
        case "date":
            is_day = isinstance(value, datetime.date) and not isinstance(value, datetime.datetime)
            return is_day or _is_relative(value)
        case "timestamp":
            return isinstance(value, datetime.datetime) or _is_relative(value)
        case "boolean":
            return isinstance(value, bool)
        case _:
            return isinstance(value, str)


def _is_relative(value: Any) -> bool:
    return isinstance(value, str) and is_relative(value)


def _read_step(entry: Any, place: int, faults: list[Fault]) -> Step | None:
    path: Path = ("steps", place)
    if not isinstance(entry, Mapping):
        faults.append(Fault(path, "it must be a table under [[steps]]"))
        return None
    verbs = [verb for verb in STEP_KEYS if verb in entry]
    if len(verbs) != 1:
        *first, last = (f'{verb} = "TABLE"' for verb in STEP_KEYS)
        faults.append(Fault(path, f"a step needs either {', '.join(first)} or {last}"))
        return None
    (verb,) = verbs
    found = list(_find_faults(entry, STEP_KEYS[verb], path))
    if "name" not in entry:
        found.append(Fault(path, "a step needs a name"))
    if isinstance(entry.get("seal"), Mapping):
        found += _find_seal_faults(entry["seal"], (*path, "seal"))
    found += _find_missing(entry, path) if verb == "dedupe" else _find_unfit(entry, path, verb)
    faults += found
    if found:
        return None
    options = {name: value for name, value in entry.items() if name not in ("name", verb)}
    return Step(entry["name"], verb, entry[verb], options)


def _find_seal_faults(seal: Mapping[str, Any], path: Path) -> Iterator[Fault]:
    yield from _find_faults(seal, SEAL, path)
    for name in SEAL:
        if name not in seal and name != "values":
            yield Fault(path, f"a seal needs {name}; yeldro preview FILE --seal writes it")


def _find_unfit(entry: Mapping[str, Any], path: Path, verb: str) -> Iterator[Fault]:
    """Keys that do not go together, or go missing, where rows are chosen."""
    if verb == "clear" and "columns" not in entry:
        yield Fault(path, "clear needs columns")
    for unfit in find_unfit(_find_names(entry), str(entry[verb])):
        told = as_keys(f"{unfit.message} {unfit.hint}".rstrip(" ."))
        yield Fault((*path, unfit.name) if unfit.name else path, told[:1].lower() + told[1:])


def _find_names(entry: Mapping[str, Any]) -> list[str]:
    """The options that a step gives, by their names."""
    options = keys_of(RowsOptions)
    return [options[key].name for key, value in entry.items() if value and key in options]


def _find_missing(entry: Mapping[str, Any], path: Path) -> Iterator[Fault]:
    needless = entry.get("same") in ("all", ["all"])
    for name in ("same", "keep"):
        if name not in entry and not (name == "keep" and needless):
            yield Fault(path, f"dedupe needs {name}")
    rules = entry.get("dependents")
    if isinstance(rules, Mapping) and rules.get("default", "move") != "move":
        for name in [name for name, rule in rules.items() if rule == "move"]:
            yield Fault(
                (*path, "dependents", name), f'it does not go with default = "{rules["default"]}"'
            )


def _find_doubled(steps: Sequence[Any]) -> Iterator[Fault]:
    names = [entry.get("name") for entry in steps if isinstance(entry, Mapping)]
    for place, name in enumerate(names):
        if isinstance(name, str) and name in names[:place]:
            yield Fault(
                ("steps", place, "name"), f"there are two steps {name!r}; give each its own name"
            )


def _find_unknown(steps: Sequence[Any], params: Mapping[str, Any]) -> Iterator[Fault]:
    """Parameters that a condition needs and the file does not have, and the other way round."""
    needed: set[str] = set()
    for place, entry in enumerate(steps):
        where = (
            as_list(entry.get("where")) if isinstance(entry, Mapping) and _is_read(entry) else ()
        )
        names = dict.fromkeys(name for text in where for name in find_names(text))
        needed |= {*names}
        for name in names:
            if name not in params:
                more = f". {nearest(name, params, 'parameters').rstrip('.')}" if params else ""
                message = f"there is no parameter {name!r}; it stands under [params.{name}]{more}"
                yield Fault(("steps", place, "where"), message)
    is_whole_file = all(isinstance(entry, Mapping) and _is_read(entry) for entry in steps)
    for name in params:
        if is_whole_file and name.isidentifier() and name not in needed:
            yield Fault(("params", name), f"the parameter {name} is never used")


def _is_read(step: Mapping[str, Any]) -> bool:
    """Whether we know what its conditions say."""
    where = step.get("where", "")
    return not step.get("unparsed") and STEP_KEYS["delete"]["where"].find_misfit(where) is None


def _find_faults(
    entry: Mapping[str, Any], known: Mapping[str, Kind], path: Path
) -> Iterator[Fault]:
    for key, value in entry.items():
        if key not in known:
            yield Fault(
                (*path, key),
                f"there is no key {key!r} here. {nearest(key, known, 'keys').rstrip('.')}",
            )
        elif misfit := known[key].find_misfit(value):
            place = (*path, key, misfit.key) if misfit.key else (*path, key)
            names = known[key].names if isinstance(misfit.value, str) else ()
            more = f". {nearest(misfit.value, names, 'names').rstrip('.')}" if names else ""
            yield Fault(place, f"it must be {known[key].words}, not {_written(misfit.value)}{more}")


def _written(value: Any) -> str:
    if isinstance(value, bool):
        return str(value).lower()
    if isinstance(value, list):
        return "a list" if value else "an empty list"
    return "a table" if isinstance(value, Mapping) else repr(value)
