"""What is left to do after a run."""

from __future__ import annotations

AFTERWARDS = {
    "after.sqlite": (
        "Room on disk: {sizes}. VACUUM gives back what is free: it writes the file anew, and "
        "nobody else can write meanwhile."
    ),
    "after.postgres": (
        "Room on disk, as before: {sizes}. VACUUM lets new rows have that of the deleted ones, "
        "which the server also does by itself in time. VACUUM FULL gives it back to the disk, and "
        "nobody can use the table meanwhile."
    ),
    "after.mysql": (
        "Room on disk, as the server reckons: {sizes}. OPTIMIZE TABLE gives back what is free: it "
        "writes the table anew."
    ),
    "after.analyze": (
        "The planner's figures are of before. To renew them: {statements}. Next time "
        "--then-analyze does that."
    ),
    "after.analyzed": "To renew the planner's figures this was done: {statements}",
    "after.failed": "What is left to do could not be found out: {reason}",
}
