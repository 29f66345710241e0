"""How far replicas and the nodes of a Galera cluster are, as they tell themselves.

https://mariadb.com/kb/en/show-replica-status/
https://galeracluster.com/library/documentation/galera-status-variables.html
"""

from __future__ import annotations

from collections.abc import Mapping
from contextlib import suppress
from typing import Any

import pymysql
import pymysql.cursors
from pymysql.constants import ER

from yeldro.core.database.followers import Sighting
from yeldro.core.model.address import Address, Link
from yeldro.engines.mariadb.link import connect
from yeldro.errors import YeldroError

NODE = """
SHOW GLOBAL STATUS WHERE Variable_name IN ('wsrep_ready', 'wsrep_cluster_status',
'wsrep_cluster_state_uuid', 'wsrep_last_committed', 'wsrep_flow_control_paused_ns')"""
# Seconds for which a server may keep us waiting.
_WAIT = 5


def find_node_fault(status: Mapping[str, str]) -> str:
    """Why a node of a cluster can take no statement, "" where it can."""
    if status.get("wsrep_cluster_status") != "Primary":
        return "it is not in the primary component of its cluster"
    return "" if status.get("wsrep_ready") == "ON" else "it is not ready (wsrep_ready)"


def find_position(status: Mapping[str, str]) -> int | None:
    """How far a node of a cluster is, None where it is in none."""
    place = status.get("wsrep_last_committed", "")
    return int(place) if place.isdecimal() and status.get("wsrep_cluster_status") else None


class Other:
    """A replica or another node. A look after a failed one connects again."""

    def __init__(self, address: Address, link: Link) -> None:
        self._name, self._address, self._link = str(address), address, link
        self._connection: Any = None
        self._paused: int | None = None

    def look(self) -> Sighting:
        try:
            with self._connect().cursor(pymysql.cursors.DictCursor) as cursor:
                cursor.execute(NODE)
                status = {row["Variable_name"]: row["Value"] for row in cursor.fetchall()}
                if find_position(status) is not None:
                    return self._see_node(status)
                cursor.execute("SHOW ALL SLAVES STATUS")
                return self._see_replica(list(cursor.fetchall()))
        except (pymysql.Error, YeldroError, OSError) as error:
            self.close()
            denied = error.args[:1] == (ER.SPECIFIC_ACCESS_DENIED_ERROR,)
            fault = "this account may not see it: grant REPLICA MONITOR" if denied else ""
            return Sighting(self._name, fault=fault or "it cannot be reached")

    def _connect(self) -> Any:
        if self._connection is None:
            made: Any = connect(self._address, _WAIT, self._link)
            made._read_timeout = made._write_timeout = _WAIT
            self._connection = made
        return self._connection

    def _see_replica(self, sources: list[dict[str, Any]]) -> Sighting:
        if not sources:
            return Sighting(self._name, fault="it follows nobody")
        seconds = [row["Seconds_Behind_Master"] for row in sources]
        if any(one is None for one in seconds):
            return Sighting(self._name, fault="its replication has stopped")
        return Sighting(self._name, seconds=float(max(seconds)))

    def _see_node(self, status: Mapping[str, str]) -> Sighting:
        if fault := find_node_fault(status):
            return Sighting(self._name, fault=fault)
        # What it made others wait since the last look is time that it was behind.
        paused = int(status.get("wsrep_flow_control_paused_ns", "0"))
        waited = 0.0 if self._paused is None else (paused - self._paused) / 1e9
        self._paused = paused
        return Sighting(self._name, find_position(status), waited)

    def close(self) -> None:
        if self._connection is not None:
            with suppress(pymysql.Error, OSError):
                self._connection.close()
        self._connection = None
