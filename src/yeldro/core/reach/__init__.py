"""Everything that depends on the matched rows, and the order in which it can go."""
