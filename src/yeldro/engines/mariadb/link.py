"""How a connection to MariaDB is made: within a time, with the TLS that was asked for, and with no
secret in clear."""

from __future__ import annotations

import ipaddress
import socket
import ssl
import threading
from contextlib import suppress
from typing import Any

import pymysql
import pymysql.connections
from pymysql.constants import CR, FIELD_TYPE
from pymysql.converters import conversions, escape_float

from yeldro.core.model.address import Address, Link
from yeldro.core.model.values import WrittenFloat
from yeldro.errors import DatabaseFailed, UsageError

_PORT = 3306
_CONVERSIONS: dict[Any, Any] = {
    **conversions,
    FIELD_TYPE.FLOAT: WrittenFloat,
    FIELD_TYPE.DOUBLE: WrittenFloat,
    WrittenFloat: escape_float,
}
# Ways of logging in that send the password itself. A server may ask for one at any time.
_IN_THE_CLEAR = (b"mysql_clear_password", b"dialog")


_Connection: Any = pymysql.connections.Connection  # whose inner methods have no types


class GuardedConnection(_Connection):  # type: ignore[misc]  # as above
    """A connection that sends its password to nobody else, and trusts no answer to be
    well-formed.
    """

    is_local = False

    def _process_auth(self, plugin_name: bytes, auth_packet: Any, handler: Any = None) -> Any:
        if plugin_name in _IN_THE_CLEAR and self.password and not (self._secure or self.is_local):
            raise DatabaseFailed(
                "The server asks for the password as a clear text, over a connection that anybody "
                "can read.",
                'It was not sent. Use TLS: tls = "require" or "verify" in yeldro.toml.',
            )
        return super()._process_auth(plugin_name, auth_packet, handler)

    def _read_query_result(self, unbuffered: bool = False) -> Any:
        try:
            return super()._read_query_result(unbuffered)
        except (pymysql.Error, OSError):
            raise
        except Exception as error:
            self._force_close()
            raise pymysql.OperationalError(CR.CR_MALFORMED_PACKET, type(error).__name__) from error


def connect(address: Address, wait: float, link: Link) -> GuardedConnection:
    """Connect and log in within `wait` seconds. Errors of the driver go through to the caller."""
    settings = dict(address.settings)
    path = settings.get("unix_socket", "")
    context, must = _make_context(settings, link)
    host = address.host or "localhost"
    made: Any = GuardedConnection(
        host=host,
        user=address.user or None,
        password=address.secrets.get("password", ""),
        database=address.database,
        charset="utf8mb4",
        client_flag=pymysql.constants.CLIENT.FOUND_ROWS,
        conv=_CONVERSIONS,
        read_timeout=wait,
        write_timeout=wait,
        defer_connect=True,
        **({"ssl": context} if context and not path else {"ssl_disabled": True}),
    )
    if context and not path:
        made._ssl_required = must
    made.is_local = bool(path) or _is_local(host)
    try:
        with _open_socket(path, host, address.port or _PORT, wait) as sock:
            made._secure = bool(path)
            _log_in(made, sock, wait)
    except OSError as error:
        raise pymysql.OperationalError(
            CR.CR_CONN_HOST_ERROR, error.strerror or str(error)
        ) from error
    made._read_timeout = made._write_timeout = None
    made._sock.settimeout(None)
    made._current_timeout = None
    return made  # type: ignore[no-any-return]


def _log_in(made: Any, sock: socket.socket, wait: float) -> None:
    """A server that sends a byte now and then would never meet a timeout of the socket: the line is
    cut instead."""
    late = threading.Event()
    line = sock.dup()

    def cut() -> None:
        late.set()
        with suppress(OSError):
            line.shutdown(socket.SHUT_RDWR)

    watch = threading.Timer(wait, cut)
    watch.daemon = True
    watch.start()
    try:
        made.connect(socket.socket(fileno=sock.detach()))
    except (pymysql.Error, DatabaseFailed) as error:
        if late.is_set():
            raise TimeoutError(f"no answer within {wait:g} seconds") from error
        raise
    except Exception as error:  # what the driver meets in a packet that no server sends
        raise pymysql.OperationalError(
            CR.CR_MALFORMED_PACKET, f"its answer cannot be read ({type(error).__name__})"
        ) from error
    finally:
        watch.cancel()
        line.close()


def _open_socket(path: str, host: str, port: int, wait: float) -> socket.socket:
    if path:
        sock = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM)
        sock.settimeout(wait)
        try:
            sock.connect(path)
        except OSError:
            sock.close()
            raise
        return sock
    sock = socket.create_connection((host, port), wait)
    sock.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
    sock.setsockopt(socket.SOL_SOCKET, socket.SO_KEEPALIVE, 1)
    return sock


def _make_context(settings: dict[str, str], link: Link) -> tuple[ssl.SSLContext | None, bool]:
    """What TLS needs, None for none, and whether it must be."""
    authority = settings.get("ssl_ca") or link.tls_ca
    tls = link.tls or ("verify" if authority else "prefer")
    if tls == "off":
        return None, False
    certificate, key = (
        settings.get("ssl_cert") or link.tls_cert,
        settings.get("ssl_key") or link.tls_key,
    )
    try:
        context = _make_verifying(authority) if tls == "verify" else _make_trusting(authority)
        if certificate:
            context.load_cert_chain(certificate, key or None)
    except (OSError, ValueError) as error:
        raise UsageError(
            f"The certificates for TLS cannot be read ({type(error).__name__}).",
            "Check tls_ca, tls_cert and tls_key.",
        ) from None
    return context, tls in ("require", "verify")


def _make_verifying(authority: str) -> ssl.SSLContext:
    return ssl.create_default_context(cafile=authority or None)


def _make_trusting(authority: str) -> ssl.SSLContext:
    """Without what the system trusts, which nobody would ask and which takes long to read."""
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)
    context.check_hostname = False
    context.verify_mode = ssl.CERT_NONE
    if authority:
        context.load_verify_locations(authority)
    return context


def _is_local(host: str) -> bool:
    if host == "localhost":
        return True
    with suppress(ValueError):
        return ipaddress.ip_address(host).is_loopback
    return False
