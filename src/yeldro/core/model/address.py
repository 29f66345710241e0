"""Where a database is: the one form of an address that may be shown, kept or compared. It cannot
show its password."""

from __future__ import annotations

import re
from collections.abc import Mapping
from types import MappingProxyType
from urllib.parse import parse_qsl, quote, unquote, urlencode

from msgspec import Struct, field

from yeldro.errors import UsageError

POSTGRESQL, MARIADB, SQLITE = "postgresql", "mariadb", "sqlite"
# Names that people and tools give to the same driver.
_SCHEMES = {
    "sqlite": SQLITE,
    "postgresql": POSTGRESQL,
    "postgres": POSTGRESQL,
    "mariadb": MARIADB,
    "mysql": MARIADB,
}
# What a URL may set behind its question mark. Other settings of the drivers could send files or run
# statements.
_SETTINGS = {
    POSTGRESQL: {
        *(
            "host",
            "hostaddr",
            "port",
            "user",
            "options",
            "application_name",
            "connect_timeout",
            "target_session_attrs",
        ),
        *("sslmode", "sslrootcert", "sslcert", "sslkey", "sslcrl", "gssencmode", "channel_binding"),
    },
    MARIADB: {"unix_socket", "ssl_ca", "ssl_cert", "ssl_key"},
}
# Settings of a URL that are passwords under other names, and are hidden like one.
_SECRET = {"password": "password", "passwd": "password", "sslpassword": "sslpassword"}
_HINT = (
    "It is SCHEME://USER@HOST:PORT/DATABASE; in a password write %40 for @, %2F for / and %3F for "
    "?."
)


# How much of TLS a connection asks for.
TLS = ("off", "prefer", "require", "verify")


class Link(Struct, frozen=True):
    """How a server is spoken to: one of `TLS`, "" where nobody said; files of certificates; and
    whether a pooler that stands between keeps a session together."""

    tls: str = ""
    tls_ca: str = ""
    tls_cert: str = ""
    tls_key: str = ""
    pooled: bool = False


PLAIN = Link()


class Address(Struct, frozen=True):
    """The path of an SQLite file, or a server's database.

    `settings` are those of the URL that are no secret. `secrets` holds `password` and
    `sslpassword`, where given; they are for the driver only, and in no text of this value.
    """

    kind: str
    path: str = ""
    user: str = ""
    host: str = ""
    port: int | None = None
    database: str = ""
    settings: tuple[tuple[str, str], ...] = ()
    scheme: str = ""
    secrets: Mapping[str, str] = field(default_factory=dict)

    @property
    def is_file(self) -> bool:
        return self.kind == SQLITE

    def __str__(self) -> str:
        if self.is_file:
            return self.path
        user = f"{quote(self.user, safe='')}@" if self.user else ""
        host = f"[{self.host}]" if ":" in self.host else self.host
        port = f":{self.port}" if self.port is not None else ""
        more = f"?{urlencode(self.settings, safe='/')}" if self.settings else ""
        return f"{self.scheme}://{user}{host}{port}/{quote(self.database, safe='')}{more}"

    def __repr__(self) -> str:
        return f"<{self}>"


def read_address(text: str) -> Address:
    """Read a path or a URL. UsageError for a URL that cannot be right, of which nothing but the
    scheme is repeated."""
    scheme, separator, rest = text.partition("://")
    if "\0" in text:
        raise UsageError("The address of the database holds a sign that none can.")
    if not separator:
        _check_path(text)
        return Address(SQLITE, text)
    kind = _SCHEMES.get(scheme.lower())
    if kind is None:
        raise UsageError(
            "The database URL begins with an unknown scheme.",
            "Give a path, or a URL with sqlite:///, postgresql://, mariadb:// or mysql://.",
        )
    if kind == SQLITE:
        if not rest.startswith("/"):
            raise UsageError("The URL of an SQLite file is sqlite:///PATH.")
        return Address(SQLITE, rest[1:])
    return _read_server(kind, scheme.lower(), rest)


def looks_like_address(text: str) -> bool:
    """Whether a text is a path or a URL, and no name."""
    return re.fullmatch(r"[\w-]+", text) is None


def _check_path(text: str) -> None:
    """A mistyped URL must not be taken for the path of a file, which messages repeat."""
    start, colon, rest = text.partition(":")
    if colon and (start.lower() in _SCHEMES or ("@" in rest and not text.startswith((".", "/")))):
        raise UsageError("This looks like a database URL, but has no :// behind its scheme.", _HINT)


def _read_server(kind: str, scheme: str, rest: str) -> Address:
    place, _, query = rest.partition("?")
    authority, slash, database = place.partition("/")
    login, at, server = authority.rpartition("@")
    if "@" in database or (not at and "@" in query) or "#" in rest:
        raise _unreadable(scheme)
    user, _, password = login.partition(":")
    found = re.fullmatch(r"(?:\[([0-9A-Fa-f:.]+)\]|([^:\[\]]*))(?::(\d{1,5}))?", server)
    if not found:
        raise _unreadable(scheme)
    secrets = {"password": unquote(password)} if password else {}
    settings = []
    for name, value in parse_qsl(query, keep_blank_values=True):
        if name in _SECRET:
            secrets[_SECRET[name]] = value
        elif name in _SETTINGS[kind]:
            settings.append((name, value))
        else:
            raise UsageError(
                f"The {scheme}:// URL has a setting that is not known here.",
                f"Known are {', '.join(sorted(_SETTINGS[kind]))}.",
            )
    if not slash or not database:
        raise UsageError(f"The {scheme}:// URL names no database.", _HINT)
    port = int(found[3]) if found[3] else None
    host = unquote(found[1] or found[2])
    return Address(
        kind,
        "",
        unquote(user),
        host,
        port,
        unquote(database),
        tuple(settings),
        scheme,
        MappingProxyType(secrets),
    )


def _unreadable(scheme: str) -> UsageError:
    return UsageError(f"The {scheme}:// URL cannot be read.", _HINT)


# What stands between a colon and an at sign, wherever somebody wrote an address; `//` begins no
# password.
_LOGIN = re.compile(r"((?:\w+:/{1,3})?[^\s:/@'\"]*):(?!//)\S*@")
# A password in a URL that could not be read as one is still a password.
_NAMED_SECRET = re.compile(r"((?:password|passwd)=)[^\s&'\"]+", re.IGNORECASE)


def hide_passwords(text: str) -> str:
    """A message that may repeat what somebody wrote in the wrong place, without what may be a
    password."""
    return _NAMED_SECRET.sub(r"\1…", _LOGIN.sub(r"\1:…@", text))
