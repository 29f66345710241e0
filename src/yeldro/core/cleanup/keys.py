"""The keys of a cleanup file: where each may stand, and what its value may be. Those of steps are
options."""

from __future__ import annotations

import json
import re
from collections.abc import Mapping, Sequence
from typing import Any

from yeldro.core.cleanup.kinds import (
    COUNT,
    EXPECT,
    FIRST,
    FLAG,
    IGNORE,
    KEEP,
    LIST,
    PARAMS,
    SAMPLE,
    SHARE,
    SIZE,
    STEPS,
    STRICT,
    TABLE,
    TEXT,
    TYPES,
    VALUE,
    VALUES,
    Kind,
    one_of,
    rules_of,
)
from yeldro.core.cleanup.step_options import VERBS
from yeldro.options import Kind as OptionKind
from yeldro.options import LimitOptions, Option, keys_of

_OF_OPTIONS = {
    OptionKind.TEXT: TEXT,
    OptionKind.TEXTS: LIST,
    OptionKind.LIST: LIST,
    OptionKind.NAMES: LIST,
    OptionKind.FLAG: FLAG,
    OptionKind.COUNT: COUNT,
    OptionKind.FIRST: FIRST,
    OptionKind.SHARE: SHARE,
    OptionKind.EXPECT: EXPECT,
    OptionKind.SAMPLE: SAMPLE,
    OptionKind.SIZE: SIZE,
}
# Lists whose texts are not free.
_LISTS = {"ignore": IGNORE, "keep": KEEP, "strict": STRICT}


def _make_kind(one: Option) -> Kind:
    match one.kind:
        case OptionKind.RULES:
            return rules_of(one.choices)
        case OptionKind.CHOICE:
            return one_of(one.choices)
        case OptionKind.FILL:
            return one_of((True, False, *(word for word in one.choices if word != one.alone)))
        case kind:
            return _LISTS.get(one.name) or _OF_OPTIONS[kind]


def _make_kinds(options: type) -> dict[str, Kind]:
    return {key: _make_kind(one) for key, one in keys_of(options).items()}


TOP = {
    "title": TEXT,
    "description": TEXT,
    "database": TEXT,
    "params": PARAMS,
    "guards": TABLE,
    "steps": STEPS,
}
PARAM = {"type": one_of(TYPES), "default": VALUE, "ask": TEXT, "allowed": VALUES}
# `values` are those of days that were written by their distance from today.
SEAL = {"matched": COUNT, "rows": COUNT, "fingerprint": TEXT, "values": TABLE}
GUARDS = _make_kinds(LimitOptions)
# The keys of a step, by its verb.
STEP_KEYS = {
    verb: {"name": TEXT, verb: TEXT, "seal": TABLE, **_make_kinds(options)}
    for verb, options in VERBS.items()
}
# Those without which nobody could tell what a step does.
NEEDED: Mapping[str, Sequence[str]] = {"delete": (), "dedupe": ("same",), "clear": ("columns",)}
_ALL = {key: kind for keys in STEP_KEYS.values() for key, kind in keys.items()}

_OPTION = re.compile(r"""--([a-z]+(?:-[a-z]+)*)(?: ([^\s=]+)=(\w+)| ("[^"]*"|\d+(?:[,.]\d+)*))?""")
_NUMBERS = (COUNT, FIRST, SHARE, EXPECT, SAMPLE)


def write_key(option: str, value: Any = None) -> str:
    """`max_rows = 1000` for `max-rows`, "" for an option that no step has. `value` may be (TABLE,
    RULE)."""
    key = option.replace("-", "_")
    kind = _ALL.get(key)
    match value:
        case _ if kind is None:
            return ""
        case None:
            return f"{key} = true" if kind is FLAG or key == "fill" else key
        case (table, rule):
            shown = table if table.isidentifier() else _quote(table)
            return f'{key} = {{ {shown} = "{rule}" }}'
        case int() | float():
            return f"{key} = {value if isinstance(value, int) else f'{value:g}'}"
    return f"{key} = {_quote(value)}"


def _quote(text: str) -> str:
    return json.dumps(text, ensure_ascii=False)


def as_keys(text: str) -> str:
    """A message about options as one about a file: `--all-rows` as `all_rows = true`. Options of a
    run stay."""

    def write(found: re.Match[str]) -> str:
        option, table, rule, given = found.groups()
        value: Any = (table, rule) if table else given and given.strip('"')
        kind = _ALL.get(option.replace("-", "_"))
        if given and kind in _NUMBERS and not given.startswith('"'):
            value = float(given.replace(",", "")) if "." in given else int(given.replace(",", ""))
        return write_key(option, value) or found[0]

    return _OPTION.sub(write, text)
