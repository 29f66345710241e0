"""How far standbys are, as the primary tells and as they tell themselves.

https://www.postgresql.org/docs/current/monitoring-stats.html#MONITORING-PG-STAT-REPLICATION-VIEW
"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import suppress

import psycopg

from yeldro.core.database.followers import Sighting
from yeldro.core.model.address import Address, Link
from yeldro.engines.postgresql.link import find_arguments
from yeldro.engines.shared.gate import Gate

# A place in the log, as a number of bytes.
POSITION = "SELECT (pg_catalog.pg_current_wal_lsn() - '0/0')::bigint"
# What is written, but perhaps not on disk yet.
WRITTEN = "SELECT (pg_catalog.pg_current_wal_insert_lsn() - '0/0')::bigint"
# A receiver that keeps the log only, and a logical one, replay nothing.
_STANDBYS = """
SELECT coalesce(application_name, '') || coalesce(' at ' || client_addr::text, ''), state::text,
  (coalesce(replay_lsn, flush_lsn, write_lsn) - '0/0')::bigint,
  extract(epoch FROM replay_lag)::float8
FROM pg_catalog.pg_stat_replication WHERE state IS DISTINCT FROM 'backup'"""
_SLOTS = """
SELECT slot_name::text FROM pg_catalog.pg_replication_slots WHERE NOT active AND NOT temporary"""
_OWN = """
SELECT pg_catalog.pg_is_in_recovery(),
  (pg_catalog.pg_last_wal_replay_lsn() - '0/0')::bigint"""
# Seconds for which a standby may keep us waiting.
_WAIT = 5


def find_standbys(gate: Gate) -> Iterator[Sighting]:
    """Those that this primary sends its log to, or keeps it for."""
    for name, state, place, seconds in gate.read(_STANDBYS):
        if state is None:
            yield Sighting("a standby", fault="this account may not see it: grant pg_monitor")
        else:
            yield Sighting(name or "a standby", place, seconds)
    for (name,) in gate.read(_SLOTS):
        yield Sighting(f"the slot {name}", fault="nobody is connected to it")


class Standby:
    """One of them. A look after a failed one connects again."""

    def __init__(self, address: Address, link: Link) -> None:
        self._name = str(address)
        arguments = find_arguments(address, _WAIT, link)
        options = f"{arguments.get('options', '')} -c statement_timeout={_WAIT}s"
        # A line that is cut is noticed, too.
        self._arguments = arguments | {"options": options, "tcp_user_timeout": _WAIT * 1000}
        self._connection: psycopg.Connection[tuple[object, ...]] | None = None

    def look(self) -> Sighting:
        try:
            is_standby, place = self._ask()
        except psycopg.Error:
            self.close()
            return Sighting(self._name, fault="it cannot be reached")
        if not is_standby:
            return Sighting(self._name, fault="it is not a standby")
        return Sighting(self._name, place if isinstance(place, int) else None)

    def _ask(self) -> tuple[object, ...]:
        if self._connection is None:
            self._connection = psycopg.connect(**self._arguments, autocommit=True)
        return self._connection.execute(_OWN).fetchone() or (False, None)

    def close(self) -> None:
        if self._connection:
            with suppress(psycopg.Error):
                self._connection.close()
        self._connection = None
