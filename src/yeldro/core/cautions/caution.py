"""Named warnings about a selection or a schema. `yeldro.words.cautions` says why they matter and
what to do."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from msgspec import Struct

from yeldro.core.model.fact import Fact
from yeldro.core.model.lookup import nearest
from yeldro.errors import UsageError


class Caution(Struct, frozen=True):
    name: str
    subject: str
    found: Fact


def caution(name: str, subject: str, variant: str = "", /, **about: Any) -> Caution:
    """`variant` tells the sentences of one caution apart."""
    return Caution(name, subject, Fact(f"{name}.{variant}" if variant else name, about))


# Every caution there is, for --strict.
NAMES = (
    "whole-table",
    "always-true",
    "never-true",
    "null-in-list",
    "null-left-out",
    "null-reference",
    "outer-column",
    "quoted-word",
    "mixed-and-or",
    "text-as-number",
    "case-blind",
    "wildcard",
    "end-of-day",
    "approximate-number",
    "changing-condition",
    "not-unique",
    "unparsed",
    "ties-at-limit",
    "no-key",
    "unindexed-reference",
    "undeclared-reference",
    "unenforced-reference",
    "trigger",
    "row-security",
    "not-transactional",
    "hidden-reference",
    "large-group",
    "mixed-types",
    "reused-key",
)


CANNOT_ROLL_BACK = "cannot roll back"
"""How the refusal of a table ends whose changes stay whatever happens."""


def read_strict(texts: Sequence[str]) -> frozenset[str]:
    """The cautions that stop a run. UsageError for a name that there is not."""
    wanted = {name.strip() for text in texts for name in text.split(",")}
    for name in wanted - {*NAMES, "all"}:
        raise UsageError(f"There is no caution {name!r}.", nearest(name, NAMES, "cautions"))
    return frozenset(NAMES if "all" in wanted else wanted)
