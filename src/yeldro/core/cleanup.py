"""A cleanup: named steps with parameters and guards, kept for reuse. What a file says, read strictly.

A step asks for what a command line asks for: its `options` are those of delete or dedupe.
"""

from __future__ import annotations

import datetime
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from decimal import Decimal
from typing import Any

from yeldro.core.guards import read_expected
from yeldro.core.schema import nearest
from yeldro.core.seal import Seal
from yeldro.errors import UsageError

Path = tuple[str | int, ...]
TYPES = ("text", "integer", "number", "date", "timestamp", "boolean")
_TEXT, _FLAG, _LIST, _COUNT, _NUMBER = (
    "a text",
    "true or false",
    "a text or a list of texts",
    "a whole number",
    "a number",
)
_RULE, _EXPECT, _SAMPLE, _FILL = (
    *("a rule, or a table of rules", "a count or a range in quotes", "a whole number, or all", 'true or "blank"'),
)
_VALUE, _VALUES, _TABLE, _PARAMS, _STEPS = (
    *("a value", "a list of values", "a table", "a table of parameters", "a list of steps, each under [[steps]]"),
)
_TEXTS = {"type": "array", "items": {"type": "string"}}
# What each kind of value is in JSON Schema.
_KINDS: dict[str, Mapping[str, Any]] = {
    _TEXT: {"type": "string"},
    _FLAG: {"type": "boolean"},
    _LIST: {"anyOf": [{"type": "string"}, _TEXTS]},
    _COUNT: {"type": "integer", "minimum": 0},
    _NUMBER: {"type": "number"},
    _RULE: {"anyOf": [{"type": "string"}, {"type": "object", "additionalProperties": {"type": "string"}}]},
    _EXPECT: {"type": ["string", "integer"]},
    _SAMPLE: {"type": ["string", "integer"]},
    _FILL: {"enum": [True, False, "blank"]},
    _VALUE: {},
    _VALUES: {"type": "array"},
    _TABLE: {"type": "object"},
    _PARAMS: {"type": "object"},
    _STEPS: {"type": "array"},
}
_TOP = {
    "title": _TEXT,
    "description": _TEXT,
    "database": _TEXT,
    "params": _PARAMS,
    "guards": _TABLE,
    "steps": _STEPS,
}
_PARAM = {"type": _TEXT, "default": _VALUE, "ask": _TEXT, "allowed": _VALUES}
_SEAL = {"matched": _COUNT, "rows": _COUNT, "fingerprint": _TEXT}
_GUARDS = {"expect": _EXPECT, "max_rows": _COUNT, "max_share": _NUMBER, "strict": _LIST}
_COMMON = {"name": _TEXT, "where": _LIST, "dependents": _RULE, "seal": _TABLE} | _GUARDS
_DELETE = _COMMON | {
    "delete": _TEXT,
    "key": _LIST,
    "keys_from": _TEXT,
    "found_in": _TEXT,
    "not_found_in": _TEXT,
    "on": _TEXT,
    "orphans": _FLAG,
    "order_by": _TEXT,
    "limit": _COUNT,
    "all_rows": _FLAG,
    "truncate": _FLAG,
    "unparsed": _FLAG,
    "break_cycles": _FLAG,
    "show": _LIST,
    "sample": _SAMPLE,
}
_DEDUPE = _COMMON | {
    "dedupe": _TEXT,
    "same": _LIST,
    "ignore": _LIST,
    "nulls": _TEXT,
    "keep": _LIST,
    "fill": _FILL,
    "then_unique": _TEXT,
    "groups": _COUNT,
}


@dataclass(frozen=True, slots=True)
class Param:
    """A value that a person gives. `default` None: there is none. `allowed` are the only possible ones, () for any."""

    name: str
    type: str = "text"
    default: Any = None
    ask: str = ""
    allowed: tuple[Any, ...] = ()


@dataclass(frozen=True, slots=True)
class Step:
    """One deletion, or one removal of duplicates: `verb` is delete or dedupe, `options` what else the file says."""

    name: str
    verb: str
    table: str
    options: Mapping[str, Any] = field(default_factory=dict)

    @property
    def seal(self) -> Seal | None:
        found = self.options.get("seal")
        return Seal(**found) if found else None


@dataclass(frozen=True, slots=True)
class Cleanup:
    title: str = ""
    description: str = ""
    database: str = ""
    params: tuple[Param, ...] = ()
    guards: Mapping[str, Any] = field(default_factory=dict)
    steps: tuple[Step, ...] = ()


@dataclass(frozen=True, slots=True)
class Fault:
    """What is wrong at a place of the file, and what would be right."""

    path: Path
    message: str


def read_cleanup(data: Mapping[str, Any]) -> tuple[Cleanup, list[Fault]]:
    """What the data of a file mean, and every fault in them."""
    faults = list(_find_faults(data, _TOP, ()))
    params, guards, steps = (data.get(name) for name in ("params", "guards", "steps"))
    named = tuple(_read_params(params if isinstance(params, Mapping) else {}, faults))
    limits = guards if isinstance(guards, Mapping) else {}
    faults += _find_faults(limits, _GUARDS, ("guards",))
    faults += _find_expected(limits, ("guards",))
    listed = steps if isinstance(steps, list) else []
    if not listed and "steps" not in {fault.path[0] for fault in faults if fault.path}:
        faults.append(Fault((), "there are no steps; each stands under [[steps]]"))
    found = [step for place, entry in enumerate(listed) if (step := _read_step(entry, place, faults))]
    names = [step.name for step in found]
    for place, name in enumerate(names):
        if name in names[:place]:
            faults.append(Fault(("steps", place, "name"), f"there are two steps {name!r}; give each its own name"))
    title, description, database = (str(data.get(name, "")) for name in ("title", "description", "database"))
    return Cleanup(title, description, database, named, dict(limits), tuple(found)), faults


def _read_params(params: Mapping[str, Any], faults: list[Fault]) -> Iterator[Param]:
    for name, entry in params.items():
        path: Path = ("params", name)
        if not name.isidentifier():
            faults.append(Fault(path, f"{name!r} cannot stand behind a colon; use letters, digits and _"))
        if not isinstance(entry, Mapping):
            faults.append(Fault(path, "it must be a table, such as [params.day]"))
            continue
        before = len(faults)
        faults += _find_faults(entry, _PARAM, path)
        kind = entry.get("type", "text")
        if kind not in TYPES:
            faults.append(Fault((*path, "type"), f"{kind!r} is no type; there are {', '.join(TYPES)}"))
        allowed = entry.get("allowed", [])
        if len(faults) == before:
            values = [("allowed", one) for one in allowed] + [("default", entry[n]) for n in ("default",) if n in entry]
            for key, value in values:
                if not _fits(value, kind):
                    faults.append(Fault((*path, key), f"{_written(value)} is not of the type {kind}"))
            if allowed and "default" in entry and entry["default"] not in allowed:
                faults.append(Fault((*path, "default"), "the default is not among the allowed values"))
        if len(faults) == before:
            yield Param(name, kind, entry.get("default"), entry.get("ask", ""), tuple(allowed))


def _fits(value: Any, kind: str) -> bool:
    match kind:
        case "integer":
            return isinstance(value, int) and not isinstance(value, bool)
        case "number":
            return isinstance(value, int | float | Decimal) and not isinstance(value, bool)
        case "date":
            return isinstance(value, datetime.date) and not isinstance(value, datetime.datetime)
        case "timestamp":
            return isinstance(value, datetime.datetime)
        case "boolean":
            return isinstance(value, bool)
        case _:
            return isinstance(value, str)


def _read_step(entry: Any, place: int, faults: list[Fault]) -> Step | None:
    path: Path = ("steps", place)
    if not isinstance(entry, Mapping):
        faults.append(Fault(path, "it must be a table under [[steps]]"))
        return None
    verbs = [verb for verb in ("delete", "dedupe") if verb in entry]
    if len(verbs) != 1:
        faults.append(Fault(path, 'a step needs either delete = "TABLE" or dedupe = "TABLE"'))
        return None
    (verb,) = verbs
    before = len(faults)
    faults += _find_faults(entry, _DELETE if verb == "delete" else _DEDUPE, path)
    faults += _find_expected(entry, path)
    if "name" not in entry:
        faults.append(Fault(path, "a step needs a name"))
    if verb == "dedupe":
        missing = [name for name in ("same", "keep") if name not in entry]
        needless = entry.get("same") in ("all", ["all"])
        for name in missing:
            if name == "same" or not needless:
                faults.append(Fault(path, f"dedupe needs {name}"))
    dependents = entry.get("dependents", {})
    if isinstance(dependents, Mapping):
        faults += [
            Fault((*path, "dependents", name), 'it must be a rule, such as "detach"')
            for name, rule in dependents.items()
            if not isinstance(rule, str)
        ]
    if isinstance(seal := entry.get("seal", {}), Mapping):
        faults += _find_faults(seal, _SEAL, (*path, "seal"))
        missing = [name for name in _SEAL if "seal" in entry and name not in seal]
        faults += [
            Fault((*path, "seal"), f"a seal needs {name}; yeldro preview FILE --seal writes it") for name in missing
        ]
    if len(faults) > before:
        return None
    options = {name: value for name, value in entry.items() if name not in ("name", verb)}
    return Step(entry["name"], verb, entry[verb], options)


def _find_expected(entry: Mapping[str, Any], path: Path) -> Iterator[Fault]:
    expect = entry.get("expect")
    if isinstance(expect, str | int) and not isinstance(expect, bool):
        try:
            read_expected(str(expect))
        except UsageError:
            yield Fault((*path, "expect"), f'{_written(expect)} is no count and no range: write 6, "1.." or "2..5"')


def _find_faults(entry: Mapping[str, Any], known: Mapping[str, str], path: Path) -> Iterator[Fault]:
    for key, value in entry.items():
        if key not in known:
            yield Fault((*path, key), f"there is no key {key!r} here. {nearest(key, list(known), 'keys').rstrip('.')}")
        elif not _is_kind(value, known[key]):
            yield Fault((*path, key), f"it must be {known[key]}, not {_written(value)}")


def _is_kind(value: Any, kind: str) -> bool:
    is_whole = isinstance(value, int) and not isinstance(value, bool)
    checks = {
        _TEXT: isinstance(value, str),
        _FLAG: isinstance(value, bool),
        _COUNT: is_whole and value >= 0,
        _NUMBER: is_whole or isinstance(value, float),
        _LIST: isinstance(value, str) or (isinstance(value, list) and all(isinstance(one, str) for one in value)),
        _RULE: isinstance(value, str | Mapping),
        _FILL: isinstance(value, bool) or value == "blank",
        **dict.fromkeys((_EXPECT, _SAMPLE), isinstance(value, str) or is_whole),
        **dict.fromkeys((_VALUES, _STEPS), isinstance(value, list)),
        **dict.fromkeys((_TABLE, _PARAMS), isinstance(value, Mapping)),
    }
    return checks.get(kind, True)


def _written(value: Any) -> str:
    if isinstance(value, bool):
        return str(value).lower()
    return "a table" if isinstance(value, Mapping) else "a list" if isinstance(value, list) else repr(value)


def make_schema() -> dict[str, Any]:
    """The same in JSON Schema, for editors. It cannot say everything: the reader is the judge."""

    def keys(known: Mapping[str, str], required: Sequence[str] = ()) -> dict[str, Any]:
        properties: dict[str, Any] = {name: dict(_KINDS[kind]) for name, kind in known.items()}
        return {"type": "object", "additionalProperties": False, "properties": properties, "required": [*required]}

    seal = keys(_SEAL, list(_SEAL))
    param = keys(_PARAM)
    param["properties"]["type"] = {"enum": list(TYPES)}
    params = {"type": "object", "additionalProperties": param}
    steps = [keys(_DELETE, ["name", "delete"]), keys(_DEDUPE, ["name", "dedupe", "same"])]
    for step in steps:
        step["properties"]["seal"] = seal
    top = keys(_TOP, ["steps"])
    top["properties"] |= {
        "params": params,
        "guards": keys(_GUARDS),
        "steps": {"type": "array", "minItems": 1, "items": {"oneOf": steps}},
    }
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", "title": "Yeldro cleanup", **top}


def as_list(value: Any) -> Sequence[str]:
    """One text, or several."""
    return [value] if isinstance(value, str) else list(value or ())
