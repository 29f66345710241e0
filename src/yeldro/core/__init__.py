"""The job itself: which rows match, what depends on them, in what order they can go, and did
exactly they go.

No interface code, no SQL, no files, no clock: plain typed values in and out. The database is
reached through the protocol in `database.py`, which the engines fulfil.
"""
