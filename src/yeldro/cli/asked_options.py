"""The options of a run, as its record keeps them: by their names, with their values."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, TypeVar

from yeldro.errors import ArchiveFailed, Refused
from yeldro.options import (
    ClearOptions,
    DedupeOptions,
    DeletionOptions,
    Options,
    RunOptions,
    fields_of,
)
from yeldro.store.run_record import RunRecord

Asked = DeletionOptions | ClearOptions | DedupeOptions | RunOptions
_KINDS: Mapping[str, type[Asked]] = {
    "delete": DeletionOptions,
    "clear": ClearOptions,
    "dedupe": DedupeOptions,
    "run": RunOptions,
}
# Where it took place stands in the record itself, without a password.
_NOT_KEPT = ("db", "confirm")
T = TypeVar("T", bound=Options)


def write_values(options: Options) -> dict[str, Any]:
    """All that was said, and all that was not, as it was understood then."""
    names = [one.name for one in fields_of(type(options)) if one.name not in _NOT_KEPT]
    values = {name: getattr(options, name) for name in names}
    return {name: list(one) if isinstance(one, tuple) else one for name, one in values.items()}


def read_asked(record: RunRecord) -> Asked:
    """What a run was asked for. Refused, or ArchiveFailed, where its record does not say it."""
    command = record.facts["kind"]
    if command not in _KINDS:
        raise Refused(f"yeldro {command} does not go in batches.")
    values = record.facts.get("options")
    if values is None:
        raise Refused(
            f"The run {record.name} was begun by an earlier version, which kept no options.",
            "Run what is left of it anew.",
        )
    return _read_values(_KINDS[command], values, record)


def _read_values(kind: type[T], values: Mapping[str, Any], record: RunRecord) -> T:
    usual = kind()
    found: dict[str, Any] = {}
    for one in fields_of(kind):
        if one.name not in values:
            continue
        value, known = values[one.name], getattr(usual, one.name)
        if isinstance(known, tuple) and _is_texts(value):
            found[one.name] = tuple(value)
        elif not isinstance(value, list | dict) and _is_like(value, known):
            found[one.name] = value
        else:
            raise ArchiveFailed(
                f"The record {record.folder} is damaged: its option {one.name} holds what it "
                "cannot hold."
            )
    return kind(**found)


def _is_texts(value: object) -> bool:
    return isinstance(value, list) and all(isinstance(one, str) for one in value)


def _is_like(value: object, known: object) -> bool:
    """Where there is no usual value, any text or number may stand."""
    if known is None:
        return value is None or isinstance(value, str | int | float)
    if isinstance(known, bool) or isinstance(value, bool):
        return isinstance(known, bool) and isinstance(value, bool)
    return isinstance(value, int | float if isinstance(known, int | float) else type(known))
