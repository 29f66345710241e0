"""A file for each command."""
