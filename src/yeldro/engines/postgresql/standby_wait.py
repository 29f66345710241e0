"""A COMMIT that waits for a synchronous standby.

It has happened on this server, and others see it once the wait is over. An interrupt can end the
wait, and not the commit: https://www.postgresql.org/docs/current/warm-standby.html
#SYNCHRONOUS-REPLICATION
"""

from __future__ import annotations

import signal
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from typing import Any

import psycopg
from psycopg.pq import DiagnosticField

from yeldro.engines.postgresql.link import GuardedConnection

# Seconds that asking the server to end the wait may take.
_CANCELLING = 1.0
_SIGNALS = ("SIGINT", "SIGTERM", "SIGHUP")


@contextmanager
def waiting_for_standbys(
    raw: GuardedConnection, patience: float, tell: Callable[[], None]
) -> Iterator[list[bytes]]:
    """While it lasts an interrupt ends the wait. Whoever waits is told after `patience` seconds.
    The list gets what the server warns of."""
    warnings: list[bytes] = []

    def collect(result: Any) -> None:
        warnings.append(result.error_field(DiagnosticField.MESSAGE_PRIMARY) or b"")

    raw.pgconn.notice_handler = collect
    timer = threading.Timer(patience, tell)
    timer.daemon = True
    timer.start()
    try:
        with _cancelled_by_interrupts(raw):
            yield warnings
    finally:
        timer.cancel()
        raw.pgconn.notice_handler = None


@contextmanager
def _cancelled_by_interrupts(raw: GuardedConnection) -> Iterator[None]:
    """Only the main thread may say who hears of signals."""
    if threading.current_thread() is not threading.main_thread():
        yield
        return

    def cancel(number: int, frame: Any) -> None:
        with suppress(psycopg.Error):
            raw.cancel_safe(timeout=_CANCELLING)
        # In batches the one who listened before lets no other batch begin.
        listened = before.get(number)
        if callable(listened) and listened is not signal.default_int_handler:
            listened(number, frame)

    names = [getattr(signal, name) for name in _SIGNALS if hasattr(signal, name)]
    before = {one: signal.signal(one, cancel) for one in names}
    try:
        yield
    finally:
        for one, listened in before.items():
            signal.signal(one, listened)
