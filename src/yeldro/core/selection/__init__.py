"""Which rows a person asked for: a condition, keys, a match, groups of duplicates."""
