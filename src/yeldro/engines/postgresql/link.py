"""What a connection to PostgreSQL is made from, by the names of libpq.

https://www.postgresql.org/docs/current/libpq-connect.html#LIBPQ-PARAMKEYWORDS
"""

from __future__ import annotations

from collections.abc import Generator, Iterator
from contextlib import suppress
from typing import Any, TypeVar

import psycopg
from psycopg import waiting
from psycopg.pq import ExecStatus
from psycopg.pq.abc import PGconn

from yeldro.core.model.address import Address, Link

T = TypeVar("T")
# The driver's fastest way looks for interrupts only where it has to wait, and so never while a
# server keeps talking.
_wait = getattr(waiting, "wait_poll", waiting.wait_selector)
# Rows and bytes of a COPY that are taken at once, if so many are there.
_AT_ONCE, _BYTES = 1000, 1 << 18
# Seconds that asking a server to end a statement may take.
_CANCELLING = 1.0


class GuardedConnection(psycopg.Connection[Any]):
    """A connection that an interrupt ends, whatever the server does: the driver's own would wait
    for its answer."""

    def __init__(self, *given: Any, **named: Any) -> None:
        """Nobody reads notices. An interrupt in the middle of handling one would be lost."""
        super().__init__(*given, **named)
        self.pgconn.notice_handler = None

    def read_copy(self) -> Iterator[bytes]:
        """The rows of the COPY that was begun, many at a time. The driver's own loop takes turns at
        waiting for each of them."""
        is_over = False
        while not is_over:
            rows, is_over = self.wait(_take_rows(self.pgconn))
            yield b"".join(rows)

    def wait(
        self, gen: Generator[Any, Any, T], interval: float = 0.1, timeout: float | None = None
    ) -> T:
        try:
            return _wait(gen, self.pgconn.socket, interval=interval, timeout=timeout)
        except KeyboardInterrupt:
            with suppress(psycopg.Error):
                self.cancel_safe(timeout=_CANCELLING)
            self.pgconn.finish()
            raise


def _take_rows(connection: PGconn) -> Generator[Any, Any, tuple[list[bytes], bool]]:
    """Rows of a COPY that have arrived, and whether they are the last. It yields what to wait for,
    as the driver's own do."""
    rows: list[bytes] = []
    taken = 0
    while len(rows) < _AT_ONCE and taken < _BYTES:
        size, row = connection.get_copy_data(1)
        if size < 0:
            yield from _end_copy(connection)
            return rows, True
        if size:
            taken += size
            rows.append(bytes(row))
        elif rows:
            break
        elif (yield waiting.WAIT_R):
            connection.consume_input()
    return rows, False


def _end_copy(connection: PGconn) -> Generator[Any, Any, None]:
    while True:
        while connection.is_busy():
            if (yield waiting.WAIT_R):
                connection.consume_input()
        if (result := connection.get_result()) is None:
            return
        if result.status != ExecStatus.COMMAND_OK:
            raise psycopg.errors.error_from_result(result)


# Our words beside those of libpq.
_MODES = {"off": "disable", "verify": "verify-full"}


def find_arguments(address: Address, wait: float, link: Link) -> dict[str, Any]:
    """`wait` is how many seconds connecting and logging in may take together."""
    given = {
        "sslmode": _MODES.get(link.tls, link.tls),
        "sslrootcert": link.tls_ca,
        "sslcert": link.tls_cert,
        "sslkey": link.tls_key,
        "user": address.user,
        "host": address.host,
        "port": address.port,
        "dbname": address.database,
        **dict(address.settings),
        **address.secrets,
    }
    return {
        # Less than two seconds is none for libpq.
        "connect_timeout": max(2, round(wait)),
        "application_name": "yeldro",
        **{name: value for name, value in given.items() if value},
    }
