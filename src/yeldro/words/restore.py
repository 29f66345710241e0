"""What a restore leaves alone, and why it may not be possible."""

from __future__ import annotations

RESTORE = {
    "restore.index": ("The unique index {name} of {table}, which the run added, is dropped first."),
    "restore.found-gone": (
        "The record says that the run was rolled back, but {rows:,} of its rows are gone or clear."
    ),
    "restore.altered": (
        "Rows of {table} are not as before the run in {columns}; that is left alone."
    ),
    "restore.waits": (
        "How many of {rows:row} of {table} come back is known when what came later is undone."
    ),
    "restore.not-as-left": (
        "{rows:row} of {table} {rows:?is|are} not as the run left {rows:?it|them}; {rows:?it "
        "is|they are} left alone."
    ),
    "restore.gone": (
        "{rows:row} of {table} that the run changed {rows:?is|are} gone; {rows:?it is|they are} "
        "left alone."
    ),
    "restore.all-there": "All of its rows are there.",
    "restore.kept": (
        "{rows:row} {rows:?stays|stay} as {rows:?it is|they are}, with other values than the run "
        "left; all others are there."
    ),
    "restore.other-values": (
        "{rows:row} of {table} {rows:?is|are} there with other values; {rows:?it is|they are} left "
        "alone."
    ),
    "restore.left-out": "{table}.{column} is not in the archive: it comes back as its default.",
    "restore.no-key": (
        "{table} has no key, and rows like the archived ones came or went since: nobody knows "
        "which."
    ),
    "restore.taken": (
        "Rows with other values have taken {rows:,} of the keys of {table}; --differing keep "
        "leaves those."
    ),
    "restore.parent-gone": (
        "{rows:row} of {table} {rows:?references a row|reference rows} of {parent} that "
        "{rows:?is|are} gone ({reference})."
    ),
    "restore.needs-value": "{table}.{column} was left out of the archive, and it needs a value.",
}
