"""Between the options of a command line and the steps of a cleanup file."""

from __future__ import annotations

import datetime
from collections.abc import Callable, Mapping, Sequence
from decimal import Decimal
from pathlib import Path
from textwrap import indent
from typing import Any, TypeVar

from yeldro.cli.place import beside
from yeldro.core.cautions.caution import read_strict
from yeldro.core.cleanup.cleanup import Cleanup, Param, Step, as_list
from yeldro.core.cleanup.keys import as_keys
from yeldro.core.cleanup.step_options import (
    EACH,
    AnyOptions,
    find_verb,
    read_options,
    write_options,
)
from yeldro.core.model.lookup import nearest
from yeldro.core.model.relative_days import is_relative
from yeldro.core.model.schema import Family
from yeldro.core.model.values import MOVING, Value, read_given, read_parameter
from yeldro.core.review.verdict import Review
from yeldro.core.selection.guards import Guards, make_guards
from yeldro.core.selection.parameters import find_names
from yeldro.core.selection.selection import Selection
from yeldro.errors import Refused, UsageError
from yeldro.options import GroupsOptions
from yeldro.words.tell import tell

T = TypeVar("T")
# The title of a file that --save writes, and the name of its step.
_TITLES = {
    "delete": ("Rows of {}", "{}"),
    "dedupe": ("Duplicates of {}", "surplus {}"),
    "clear": ("What rows of {} hold", "clear {}"),
}


def make_options(
    file: Path, step: Step, guards: Mapping[str, Any], values: Mapping[str, str]
) -> AnyOptions:
    """The options of a command that asks for the same. `values` are the parameters, as `TYPE=VALUE`
    texts by name.

    A path counts from the folder of the file.
    """
    used = _find_used([step])
    parameters = tuple(f"{name}:{text}" for name, text in values.items() if name in used)
    options = read_options(step, guards, parameters=parameters)
    if not isinstance(options, GroupsOptions) and options.keys_from not in (None, "-"):
        return options.but(keys_from=beside(file, options.keys_from or ""))
    return options


def _find_used(steps: Sequence[Step]) -> set[str]:
    """The names of the parameters that the conditions of some steps speak of."""
    texts = [text for step in steps for text in as_list(step.options.get("where"))]
    return {name for text in texts for name in find_names(text)}


def read_steps(path: str, steps: Sequence[Step], read: Callable[[Step], T]) -> list[T]:
    """What each step means for a database. UsageError with all that does not fit it, as faults of
    the file; Refused."""
    found: list[T] = []
    told: list[str] = []
    for step in steps:
        try:
            found.append(read(step))
        except Refused as error:
            raise Refused(
                f"Step {step.name}: {as_keys(error.message)}", as_keys(error.hint)
            ) from None
        except UsageError as error:
            line = f"line {step.line}, " if step.line else ""
            told.append(f"{path}, {line}step {step.name}: {as_keys(error.message)}")
            told += [indent(as_keys(error.hint), "  ")] if error.hint else []
    if told:
        raise UsageError(f"{path} does not fit this database.", "\n".join(told))
    return found


def choose_steps(cleanup: Cleanup, chosen: Sequence[str]) -> list[Step]:
    """All steps of a file, or those of these names, in the order of the file. UsageError for a name
    that is none."""
    names = [step.name for step in cleanup.steps]
    for name in chosen:
        if name not in names:
            raise UsageError(
                f"There is no step {name!r} in the file.", nearest(name, names, "steps")
            )
    return [step for step in cleanup.steps if not chosen or step.name in chosen]


def read_limits(guards: Mapping[str, Any]) -> Guards:
    """The guards of a file that hold for all of its steps together."""
    values = {name: value for name, value in guards.items() if name not in EACH}
    return make_guards(values, read_strict)


def read_values(
    cleanup: Cleanup,
    steps: Sequence[Step],
    given: Sequence[str],
    ask: Callable[[Param], str] | None,
    *,
    anew: bool = False,
) -> dict[str, str]:
    """The parameters that some steps of a cleanup need: as given, else as sealed, unless they are
    sealed `anew`, else the default, else as `ask` finds out. As `TYPE=VALUE` texts by name.

    UsageError for one that is unknown, missing, of another type, or not allowed.
    """
    texts = _cut_parameters(given, [one.name for one in cleanup.params])
    used = _find_used(steps)
    sealed = {} if anew else _find_sealed(steps)
    values = {}
    for param in cleanup.params:
        if param.name not in texts and param.name not in used:
            continue
        text = texts.get(param.name, sealed.get(param.name))
        if text is None and param.default is not None:
            text = _as_text(param.default)
        if text is None and ask:
            text = ask(param)
        if text is None:
            hint = f"Give -p {param.name}=VALUE."
            raise UsageError(f"The parameter {param.name} has no value.", hint)
        # From here on it is one day, whatever the clock says meanwhile.
        value = _read_allowed(param, text)
        if is_moving(param.type, text):
            text = str(value)
        values[param.name] = f"{param.type}={text}"
    return values


def _find_sealed(steps: Sequence[Step]) -> dict[str, str]:
    """What days meant when the steps were sealed."""
    return {
        name: str(value) for step in steps if step.seal for name, value in step.seal.values.items()
    }


def is_moving(kind: str, value: object) -> bool:
    """Whether a value of a parameter is another day every day."""
    return Family(kind) in MOVING and isinstance(value, str) and is_relative(value)


def _cut_parameters(given: Sequence[str], known: Sequence[str]) -> dict[str, str]:
    """Each `NAME=VALUE`. UsageError for one that the file does not have."""
    texts = {}
    for text in given:
        name, equals, written = text.partition("=")
        if not equals or name not in known:
            raise UsageError(
                f"-p {text!r} is not a parameter of this cleanup.",
                f"It has: {', '.join(known) or 'none'}.",
            )
        texts[name] = written
    return texts


def _read_allowed(param: Param, text: str) -> Value:
    family = Family(param.type)
    value = read_given(text, family, param.name)
    allowed = [read_given(_as_text(one), family, param.name) for one in param.allowed]
    if allowed and value not in allowed:
        raise UsageError(
            f"The value of the parameter {param.name} is not allowed.",
            f"It is one of {', '.join(map(_as_text, param.allowed))}.",
        )
    return value


def _as_text(value: Any) -> str:
    if isinstance(value, bool):
        return str(value).lower()
    return value.isoformat(" ") if isinstance(value, datetime.datetime) else str(value)


def make_cleanup(options: AnyOptions, selection: Selection, database: str) -> Cleanup:
    """What a command line asked for, as a cleanup of one step. Values of parameters become
    defaults.

    `database` is as the file is to name it, and so are paths in the options.
    """
    texts = {one.name: one.text for one in map(read_parameter, options.parameters)}
    params = [
        _make_param(name, value, texts.get(name, ""))
        for condition in selection.conditions
        for name, value in condition.values.items()
    ]
    table, verb = options.table, find_verb(options)
    title, name = _TITLES[verb]
    step = Step(name.format(table), verb, table, write_options(options))
    return Cleanup(
        title=title.format(table),
        params=tuple({param.name: param for param in params}.values()),
        steps=(step,),
        database=database,
    )


def make_reviewed(
    review: Review, source: str, database: str
) -> tuple[Cleanup, Mapping[str, Sequence[str]], list[str]]:
    """The statements of a script as a cleanup, with comments on its steps, and on what is no step
    of it."""
    steps: list[Step] = []
    notes: dict[str, Sequence[str]] = {}
    left = []
    for verdict in review.in_order:
        line = verdict.written.line
        if not verdict.reach:
            if verdict.unjudged:
                words = " ".join(verdict.written.text.split())
                left.append(f"Not turned, line {line} ({verdict.unjudged}): {words}")
            continue
        for removal in verdict.removals:
            conditions = [condition.text for condition in removal.selection.conditions]
            table = removal.selection.table.label
            where = (
                {"where": conditions[0] if len(conditions) == 1 else conditions}
                if conditions
                else {}
            )
            name = f"line {line}" if len(verdict.removals) == 1 else f"line {line}, {table}"
            steps.append(Step(name, "delete", table, where or {"all_rows": True}))
            was = ["It was a TRUNCATE; this is a DELETE of all rows."] if removal.truncates else []
            notes[name] = [
                *was,
                *(f"In the script: {tell(fault)}" for fault in verdict.faults),
                *(tell(one.found) for one in verdict.doubts),
            ]
    title = f"The deletions of {source}"
    return Cleanup(title=title, database=database, steps=tuple(steps)), notes, left


def _make_param(name: str, value: Value, text: str) -> Param:
    kinds: list[tuple[type, str]] = [
        (bool, "boolean"),
        (int, "integer"),
        (Decimal, "number"),
        (datetime.datetime, "timestamp"),
        (datetime.date, "date"),
    ]
    kind = next((kind for type_, kind in kinds if isinstance(value, type_)), "text")
    if is_moving(kind, text):
        return Param(name, kind, text)
    return Param(name, kind, float(value) if isinstance(value, Decimal) else value)
