"""Why rows block a delete, and what would allow it."""

from __future__ import annotations

STOPS = {
    "stop": "{rows:row} of {table} {rows:?blocks|block} the delete through {via} ({reason})",
    "stop.clear": "{rows:row} of {table} {rows:?blocks|block} this through {via} ({reason})",
    "stop.own": "{rows:row} of {table} {rows:?blocks|block} this ({reason})",
    "stop.plain": "{sentence}.",
    "stop.lift": "{sentence}; {lift} would allow it.",
    "stop.later": (
        "{sentence}. Line {lines} removes {rows:?this row|these rows}, but later: change the order."
    ),
    "reason.asked": "{--dependents} stop",
    "reason.not-null": "it cannot be detached: no column of the reference may be NULL",
    "reason.declared": "declared {rule}",
    "reason.declared-not-null": "declared {rule}, but a column of it may not be NULL",
    "reason.match-full": ("declared {rule} and MATCH FULL, but not for all of its columns"),
    "reason.broken": "{text}",
    "reason.no-default": "declared SET DEFAULT, but no row that stays has the default",
    "reason.points-at-detached": "it points at a column of {table} that would be detached",
    "reason.points-at-changed": "it points at a column of {table} that would change",
    "reason.cycle": (
        "its tables reference each other in a cycle without a column that may be NULL"
    ),
    "reason.ring": (
        "they point at themselves or at each other in a cycle, and no column of it may be NULL"
    ),
    "reason.fill-loop": "filled in, it would make a loop",
    "reason.fill-not-unique": "filled in, {columns} would not be unique any more",
    "reason.moved-alike": "moved, they would have the same {columns} as another row",
    "reason.moved-loop": "moved, it would make a loop",
    "reason.null-in-kept": "{columns} is NULL in the kept row",
    "reason.filled-later": (
        "what it points at is filled in later, and it may not be NULL until then"
    ),
    "reason.takes-value-too": "declared {rule}, which would give it the new value too",
    "reason.clear-alike": "cleared, {columns} would not be unique any more",
    "reason.clear-check": "cleared, CHECK {check} would not hold any more",
    "reason.clear-lost": "cleared, it would point at no row",
    "reason.clear-both": (
        "it would be cleared together with what it points at: clear {columns} first, by itself"
    ),
    "reason.generated": "its column is generated",
    "reason.changes-for-it-too": "{columns} would change for it too",
    "reason.kept-rows": "these are kept rows",
    "lift.delete": "{--dependents table=delete}",
    "lift.detach": "{--dependents table=detach}",
    "lift.either": "{--dependents table=detach} or {--dependents table=delete}",
    "lift.cycles": "{--break-cycles}",
    "lift.fill": "{--fill}",
    "lift.no-fill": "leaving out {--fill}",
}
