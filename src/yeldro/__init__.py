"""Remove rows from a live SQL database and be certain about it."""

__version__ = "0.2.0"
