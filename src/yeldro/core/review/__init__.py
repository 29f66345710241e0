"""Judging the statements of a script that somebody else wrote."""
