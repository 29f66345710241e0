"""What a review says to the statements of a script."""

from __future__ import annotations

REVIEW = {
    "review.every-copy": (
        "It removes every copy in {groups:group} of rows with the same {columns}, instead of all "
        "but one."
    ),
    "review.truncate-refused": (
        "TRUNCATE is refused or cascades, because {children} references it."
    ),
    "review.truncate": (
        "TRUNCATE runs no DELETE triggers; on MariaDB it commits what went before."
    ),
    "review.reads-removed": (
        "Its condition reads {tables}, from which line {lines} has removed rows by then, so it may "
        "match fewer or more rows than now."
    ),
    "review.gone-by-then": (
        "{gone:,} of its {rows:row} {gone:?is|are} gone by then: it will match fewer."
    ),
}
