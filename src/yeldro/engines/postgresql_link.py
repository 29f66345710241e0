"""What a connection to PostgreSQL is made from, by the names of libpq.

https://www.postgresql.org/docs/current/libpq-connect.html#LIBPQ-PARAMKEYWORDS
"""

from __future__ import annotations

from typing import Any

from yeldro.core.address import Address, Link

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
