"""Which rows are the same, which one stays, and what moves to it."""
