"""The settings of a MariaDB session that we rely on."""

from __future__ import annotations

_SQL_MODES = (
    "STRICT_TRANS_TABLES",
    "STRICT_ALL_TABLES",
    "NO_AUTO_VALUE_ON_ZERO",
    "NO_ENGINE_SUBSTITUTION",
)
# Session variables that change what a value, a condition or a statement means. `sql_mode` leaves
# out everything that would make the server read a condition otherwise than our parser does.
PINNED: dict[str, str | int] = {
    "time_zone": "+00:00",
    "sql_mode": ",".join(_SQL_MODES),
    "foreign_key_checks": 1,
    "unique_checks": 1,
    "autocommit": 1,
    "sql_safe_updates": 0,
    "sql_select_limit": 18446744073709551615,
    "character_set_client": "utf8mb4",
    "character_set_connection": "utf8mb4",
    "character_set_results": "utf8mb4",
    "completion_type": "NO_CHAIN",
    "max_recursive_iterations": 4294967295,
    "group_concat_max_len": 1 << 30,
    "tx_read_only": 0,
    "max_sort_length": 1 << 16,
    "sort_buffer_size": 1 << 28,
}
# What lets archived rows in as they were: days that no calendar has, and zeros as keys.
LOADING = "ALLOW_INVALID_DATES,NO_AUTO_VALUE_ON_ZERO"
