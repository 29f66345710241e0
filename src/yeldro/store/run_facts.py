"""What a run record says: the one type of `run.json`, and the check that a file is of it."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from types import NoneType, UnionType
from typing import Any, NotRequired, TypedDict, get_args, get_origin, get_type_hints

from yeldro.core.model.schema import Schema
from yeldro.core.reach.reach import Reach
from yeldro.core.run.tally import Line, Tally


class PartFacts(TypedDict):
    """Rows of one table that one action touched. `surplus`: they are surplus rows."""

    table: str
    rows: int
    action: str
    via: list[str]
    order: NotRequired[int]
    step: NotRequired[str]
    surplus: NotRequired[bool]


class LineFacts(TypedDict):
    """One table of the tally."""

    table: str
    before: int
    expected: int
    deleted: int
    detached: int
    moved: int
    filled: int
    cleared: NotRequired[int]
    restored: int
    inserted_by_triggers: int
    deleted_by_triggers: NotRequired[int]
    changed_by_triggers: NotRequired[int]
    after: int
    balanced: bool
    by_engine: NotRequired[bool]


class GoneFacts(TypedDict):
    """How many of the rows that were to go are gone, where a run was settled by looking."""

    rows: int
    of: int


class IndexFacts(TypedDict):
    """A unique index that a run added."""

    schema: str | None
    table: str
    name: str


class Restoration(TypedDict):
    """One restoration: `into` is another database, "" where it is the run's own; `whole` says that
    nothing was left out. `gone_before` and `gone_after` are how many rows were missing."""

    when: str
    by: str
    into: str
    rows: int
    whole: bool
    gone_after: int
    outcome: str
    transaction: NotRequired[str]
    gone_before: NotRequired[int]
    dropped_indexes: NotRequired[list[str]]


class PaceFacts(TypedDict):
    """Of a run in batches: how many rows of the reach one may have, how many of `what` were chosen,
    rows or groups, and in the end how many batches were done, which took how many of them, and how
    many are left because they had changed."""

    size: int | str
    total: int
    what: str
    done: NotRequired[int]
    taken: NotRequired[int]
    left: NotRequired[int]


class FormerFacts(TypedDict):
    """The record before one, with its fingerprint then."""

    run: str
    sha256: str


class MarkFacts(TypedDict):
    """The SHA-256 of the files of a record when its run ended, and of what it says itself now; the
    `earlier` ones are those that it had before something was added to it. While it is `open` its
    files are still written."""

    files: dict[str, str]
    before: FormerFacts | None
    record: NotRequired[str]
    earlier: NotRequired[list[str]]
    open: NotRequired[bool]


class RunFacts(TypedDict):
    """All of `run.json`. Times are moments with their zone; `final`, where it is false, says that
    the database was not asked to commit."""

    format: NotRequired[int]
    run: str
    began: str
    kind: str
    asked: str
    table: str
    database: str
    address: str
    engine: str
    cluster: NotRequired[str]
    by: str
    outcome: str
    archive: bool
    reason: str
    archive_table: str | None
    ended: str | None
    final: NotRequired[bool]
    cautions: list[str]
    left_out: list[str]
    transaction: NotRequired[str]
    seconds: NotRequired[dict[str, float]]
    steps: NotRequired[list[Any]]
    gone: NotRequired[GoneFacts]
    made_indexes: NotRequired[list[IndexFacts]]
    matched: NotRequired[int]
    batches: NotRequired[PaceFacts]
    parameters: NotRequired[dict[str, str]]
    options: NotRequired[dict[str, Any]]
    settled: NotRequired[str]
    fingerprints: NotRequired[MarkFacts]
    reach: list[PartFacts]
    tally: list[LineFacts]
    restored: list[Restoration]


def is_run_facts(value: Any) -> bool:
    """Whether a value says what a record says, and nothing of another type."""
    return _fits(value, RunFacts) and _is_moment(value["began"])


def _fits(value: Any, kind: Any) -> bool:
    """Whether a value that was read from JSON is of a type."""
    if get_origin(kind) is list:
        (inner,) = get_args(kind)
        return isinstance(value, list) and all(_fits(one, inner) for one in value)
    if get_origin(kind) is UnionType:
        return any(_fits(value, inner) for inner in get_args(kind))
    if isinstance(kind, type) and hasattr(kind, "__required_keys__"):
        hints = get_type_hints(kind)
        return (
            isinstance(value, dict)
            and set(value) >= _find_required(kind)
            and all(_fits(value[name], inner) for name, inner in hints.items() if name in value)
        )
    if kind is Any:
        return True
    return isinstance(value, NoneType if kind is None else get_origin(kind) or kind)


def _find_required(kind: type) -> set[str]:
    """The keys that may not be missing."""
    hints = get_type_hints(kind, include_extras=True)
    return {name for name, hint in hints.items() if get_origin(hint) is not NotRequired}


def _is_moment(text: str) -> bool:
    try:
        return datetime.fromisoformat(text).tzinfo is not None
    except ValueError:
        return False


def describe_reach(reach: Reach) -> list[PartFacts]:
    return [
        {
            "order": place,
            "table": part.table.label,
            "rows": part.rows,
            "action": part.action,
            "via": list(map(str, part.via)),
        }
        for place, part in enumerate((part for part in reach.parts if part.rows), 1)
    ]


def describe_tally(tally: Tally) -> list[LineFacts]:
    return [
        {
            "table": line.table.label,
            "before": line.before,
            "expected": line.expected,
            "deleted": line.deleted,
            "detached": line.detached,
            "moved": line.moved,
            "filled": line.filled,
            "cleared": line.cleared,
            "restored": line.restored,
            "inserted_by_triggers": line.inserted_by_triggers,
            "deleted_by_triggers": line.deleted_by_triggers,
            "changed_by_triggers": line.changed_by_triggers,
            "after": line.after,
            "balanced": line.balanced,
            "by_engine": line.by_engine,
        }
        for line in tally.lines
    ]


def read_tally(facts: Sequence[LineFacts], schema: Schema) -> Tally:
    """What a record says of a balanced tally."""
    lines = [
        Line(
            schema.find_table(one["table"]),
            one["before"],
            one["after"],
            to_delete=one["deleted"],
            deleted=one["deleted"],
            to_detach=one["detached"],
            detached=one["detached"],
            to_move=one["moved"],
            moved=one["moved"],
            to_fill=one["filled"],
            filled=one["filled"],
            to_clear=one.get("cleared", 0),
            cleared=one.get("cleared", 0),
            inserted_by_triggers=one["inserted_by_triggers"],
            deleted_by_triggers=one.get("deleted_by_triggers", 0),
            changed_by_triggers=one.get("changed_by_triggers", 0),
            by_engine=one.get("by_engine", False),
        )
        for one in facts
    ]
    return Tally(tuple(lines), 0, 0)
