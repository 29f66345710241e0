"""Between the keys of a step and the options of the command that asks for the same."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from yeldro.core.cleanup.cleanup import Step, as_list
from yeldro.core.duplicates.request import split_list
from yeldro.options import (
    ClearingStepOptions,
    ColumnsOptions,
    DeletionStepOptions,
    GroupsOptions,
    GroupsStepOptions,
    Kind,
    Option,
    RowsOptions,
    keys_of,
)

AnyOptions = RowsOptions | GroupsOptions | ColumnsOptions
# The options that say what a step does, by its verb.
VERBS: Mapping[str, type[AnyOptions]] = {
    "delete": DeletionStepOptions,
    "dedupe": GroupsStepOptions,
    "clear": ClearingStepOptions,
}
# Those of a look at the same have them, too.
_LOOKS = {"delete": RowsOptions, "dedupe": GroupsOptions, "clear": ColumnsOptions}


# The guards of a file that hold in each of its steps, and not for all of them together.
EACH = ("strict", "allow_trigger")


def read_options(step: Step, guards: Mapping[str, Any], **more: Any) -> AnyOptions:
    """The options that ask for what a step does. `guards` are those of its file; `more` are options
    that no key says."""
    kind = VERBS[step.verb]
    options = keys_of(kind)
    found = {
        options[key].name: _from_file(options[key], value)
        for key, value in step.options.items()
        if key in options
    }
    names = {one: (*as_list(guards.get(one)), *found.get(one, ())) for one in EACH}
    return kind(**{"table": step.table, **found, **names, **more})


def find_verb(options: AnyOptions) -> str:
    """What a step does that asks for the same."""
    return next(verb for verb, kind in _LOOKS.items() if isinstance(options, kind))


def write_options(options: AnyOptions) -> dict[str, Any]:
    """The keys of a step that asks for the same."""
    keys = keys_of(VERBS[find_verb(options)])
    written = {}
    for key, one in keys.items():
        value = getattr(options, one.name, one.default)
        if value not in (one.default, ""):
            written[key] = _to_file(one, value)
    return written


def _from_file(one: Option, value: Any) -> Any:
    match one.kind:
        case Kind.TEXTS | Kind.NAMES:
            return tuple(as_list(value))
        case Kind.LIST:
            return ", ".join(as_list(value))
        case Kind.RULES:
            rules = {"default": value} if isinstance(value, str) else value
            return tuple(
                rule if table == "default" else f"{table}={rule}" for table, rule in rules.items()
            )
        case Kind.FILL:
            return {True: one.alone, False: None}.get(value, value)
        case Kind.EXPECT | Kind.SAMPLE | Kind.SIZE:
            return str(value)
        case _:
            return value


def _to_file(one: Option, value: Any) -> Any:
    """As a person would write it: one text where there is only one, a number where it is one."""
    match one.kind:
        case Kind.RULES:
            return _write_rules(value)
        case Kind.FILL:
            return True if value == one.alone else value
        case Kind.LIST if value != "all":
            return split_list(value)
        case Kind.NAMES:
            return [part.strip() for text in value for part in text.split(",")]
        case Kind.EXPECT | Kind.SAMPLE | Kind.SIZE if str(value).isdigit():
            return int(value)
        case Kind.TEXTS:
            return value[0] if len(value) == 1 else list(value)
        case _:
            return value


def _write_rules(texts: Sequence[str]) -> Any:
    """One rule where there is only that for all tables, else rules by table."""
    cut = [text.rpartition("=") for text in texts]
    rules = {table or "default": rule for table, _, rule in cut}
    return rules["default"] if list(rules) == ["default"] else rules
