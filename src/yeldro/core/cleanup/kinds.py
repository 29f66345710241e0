"""What the value of a key in a cleanup file may be, in words, in JSON Schema, and as a check."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterable, Mapping, Sequence
from typing import Any

from msgspec import Struct
from msgspec.structs import replace

from yeldro.core.cautions.caution import NAMES
from yeldro.core.duplicates.request import KEEPING, cut_rule, split_list
from yeldro.core.selection.grouping import Ignored
from yeldro.core.selection.guards import read_expected
from yeldro.errors import UsageError

TYPES = ("text", "integer", "number", "date", "timestamp", "boolean")


class Kind(Struct, frozen=True, eq=False):
    """What a value may be: `words` and `schema` (JSON Schema) say it, `find_misfit` tells what does
    not fit.

    That is the value itself, or one part of it by its key; None where all fits. `names` are what it
    is chosen from, where that is too much for `words`.
    """

    words: str
    schema: Mapping[str, Any]
    find_misfit: Callable[[Any], Misfit | None]
    names: Sequence[str] = ()


class Misfit(Struct, frozen=True):
    value: Any
    key: str = ""


def _plain(words: str, schema: Mapping[str, Any], fits: Callable[[Any], bool]) -> Kind:
    return Kind(words, schema, lambda value: None if fits(value) else Misfit(value))


def one_of(words: Iterable[Any]) -> Kind:
    """One of some values."""
    known = [*words]
    return _plain(
        _either(known),
        {"enum": known},
        lambda value: any(value is one or value == one for one in known),
    )


def _texts(
    words: str, fits: Callable[[str], bool] = lambda _: True, one: Mapping[str, Any] | None = None
) -> Kind:
    """One text or a list of them, each of which `fits`; `one` says that in JSON Schema."""

    def find_misfit(value: Any) -> Misfit | None:
        if value == [] or not isinstance(value, str | list):
            return Misfit(value)
        texts = value if isinstance(value, list) else [value]
        return next(
            (Misfit(text) for text in texts if not (isinstance(text, str) and fits(text))), None
        )

    one = one or {"type": "string"}
    return Kind(
        words, {"anyOf": [one, {"type": "array", "items": one, "minItems": 1}]}, find_misfit
    )


def _some_of(words: str, known: Sequence[str]) -> Kind:
    return _texts(words, lambda text: text in known, {"enum": [*known]})


def rules_of(known: Sequence[str]) -> Kind:
    """A rule for all dependents, or rules by table."""

    def find_misfit(value: Any) -> Misfit | None:
        rules = value if isinstance(value, Mapping) else {"": value}
        return next((Misfit(rule, key) for key, rule in rules.items() if rule not in known), None)

    one = {"enum": [*known]}
    return Kind(
        _either(known),
        {"anyOf": [one, {"type": "object", "additionalProperties": one}]},
        find_misfit,
    )


def _either(values: Sequence[Any]) -> str:
    """As a file would have them."""
    words = [json.dumps(value) for value in values]
    return f"{', '.join(words[:-1])} or {words[-1]}"


def is_whole(value: Any, low: int | None = None) -> bool:
    return isinstance(value, int) and not isinstance(value, bool) and (low is None or value >= low)


def _is_range(value: Any) -> bool:
    try:
        read_expected(str(value))
    except UsageError:
        return False
    return is_whole(value) or isinstance(value, str)


def _is_share(value: Any) -> bool:
    return (is_whole(value) or isinstance(value, float)) and 0 <= value <= 100


TEXT = _plain("a text", {"type": "string"}, lambda value: isinstance(value, str))
FLAG = _plain("true or false", {"type": "boolean"}, lambda value: isinstance(value, bool))
COUNT = _plain(
    "a whole number", {"type": "integer", "minimum": 0}, lambda value: is_whole(value, 0)
)
FIRST = _plain(
    "a whole number from 1", {"type": "integer", "minimum": 1}, lambda value: is_whole(value, 1)
)
SHARE = _plain(
    "a number from 0 to 100", {"type": "number", "minimum": 0, "maximum": 100}, _is_share
)
VALUE = _plain("a value", {}, lambda _: True)
VALUES = _plain("a list of values", {"type": "array"}, lambda value: isinstance(value, list))
TABLE = _plain("a table", {"type": "object"}, lambda value: isinstance(value, Mapping))
PARAMS = _plain(
    "a table of parameters", {"type": "object"}, lambda value: isinstance(value, Mapping)
)
STEPS = _plain(
    "a list of steps, each under [[steps]]",
    {"type": "array"},
    lambda value: isinstance(value, list),
)
EXPECT = _plain(
    'a count or a range in quotes, such as 6, "1.." or "2..5"',
    {
        "anyOf": [
            {"type": "integer", "minimum": 0},
            {"type": "string", "pattern": r"^\s*(\d+|\d+\s*\.\.\s*\d*|\.\.\s*\d+)\s*$"},
        ]
    },
    _is_range,
)
SAMPLE = _plain(
    'a whole number or "all"',
    {"anyOf": [{"type": "integer", "minimum": 0}, {"const": "all"}]},
    lambda value: is_whole(value, 0) or value == "all",
)
SIZE = _plain(
    'a whole number from 1 or "auto"',
    {"anyOf": [{"type": "integer", "minimum": 1}, {"const": "auto"}]},
    lambda value: is_whole(value, 1) or value == "auto",
)
LIST = _texts("a text or a list of texts")
IGNORE = _some_of(_either([*Ignored]), [*Ignored])
KEEP = _texts(
    f"one of {', '.join(KEEPING)}",
    lambda text: split_list(text) == [text.strip()] and cut_rule(text.strip()) is not None,
    {"type": "string", "pattern": r"^\s*(fullest|(newest|oldest|highest|lowest|where) .+)\s*$"},
)
_CAUTIONS = (*NAMES, "all")
STRICT = replace(_some_of("the name of a caution, or all", _CAUTIONS), names=_CAUTIONS)
