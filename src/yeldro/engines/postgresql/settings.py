"""The settings of a PostgreSQL session that we rely on."""

from __future__ import annotations

# Settings that change what a value or a condition means, with the one meaning that we count on.
PINNED = {
    "timezone": "UTC",
    "datestyle": "ISO, YMD",
    "intervalstyle": "postgres",
    "bytea_output": "hex",
    "extra_float_digits": "1",
    "standard_conforming_strings": "on",
    "row_security": "off",
    "session_replication_role": "origin",
    "client_encoding": "UTF8",
    "track_counts": "on",
    "lc_monetary": "C",
    "xmloption": "content",
    "default_transaction_read_only": "off",
}
# Those of them that only we need.
ONLY_OURS = {
    "default_transaction_read_only",
    "track_counts",
    "bytea_output",
    "extra_float_digits",
    "xmloption",
}
