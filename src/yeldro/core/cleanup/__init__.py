"""A cleanup: steps that were kept to be run again, and the keys of its file."""
