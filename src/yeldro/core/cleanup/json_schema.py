"""The keys of a cleanup file in JSON Schema, for editors."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from yeldro.core.cleanup.keys import GUARDS, NEEDED, PARAM, SEAL, STEP_KEYS, TOP
from yeldro.core.cleanup.kinds import Kind


def make_schema() -> dict[str, Any]:
    """The keys in JSON Schema. It cannot say everything: the reader is the judge."""

    def keys(known: Mapping[str, Kind], required: Sequence[str] = ()) -> dict[str, Any]:
        properties: dict[str, Any] = {name: dict(kind.schema) for name, kind in known.items()}
        return {
            "type": "object",
            "additionalProperties": False,
            "properties": properties,
            "required": [*required],
        }

    seal = keys(SEAL, [name for name in SEAL if name != "values"])
    params = {"type": "object", "additionalProperties": keys(PARAM)}
    steps = [keys(known, ["name", verb, *NEEDED[verb]]) for verb, known in STEP_KEYS.items()]
    for step in steps:
        step["properties"]["seal"] = seal
    top = keys(TOP, ["steps"])
    top["properties"] |= {
        "params": params,
        "guards": keys(GUARDS),
        "steps": {"type": "array", "minItems": 1, "items": {"oneOf": steps}},
    }
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "Yeldro cleanup",
        **top,
    }
