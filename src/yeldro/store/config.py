"""`yeldro.toml`: named databases and defaults, found in the working folder or above it."""

from __future__ import annotations

import re
import tomllib
from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import Any

from msgspec import Struct, field

from yeldro.core.model.address import (
    PLAIN,
    SQLITE,
    TLS,
    Address,
    Link,
    looks_like_address,
    read_address,
)
from yeldro.core.model.lookup import nearest
from yeldro.core.model.schema import UNDECLARED_RULES, Undeclared
from yeldro.errors import UsageError
from yeldro.store.disk import find_stranger

FILE_NAME = "yeldro.toml"
RECORDS = "yeldro-runs"
_TOP = {"default": str, "records": str, "databases": dict, "references": list}
_REFERENCE = {"from": str, "to": str, "rule": str}
_DATABASE = {
    "url": str,
    "protect": bool,
    "pooled": str,
    "watch": list,
    **dict.fromkeys(("tls", "tls_ca", "tls_cert", "tls_key"), str),
}
_KINDS = {str: "text", bool: "true or false", dict: "table", list: "list"}


class NamedDatabase(Struct, frozen=True):
    """`link` is how its server is spoken to; `watch` are servers that follow it."""

    name: str
    address: Address
    protect: bool = False
    link: Link = PLAIN
    watch: tuple[Address, ...] = ()


class Config(Struct, frozen=True):
    """What the file says. `folder` is where it lies, None where there is no file; `records` names
    the folder of run records beside it."""

    folder: Path | None = None
    records: str = RECORDS
    default: str | None = None
    databases: Mapping[str, NamedDatabase] = field(default_factory=dict)
    references: tuple[Undeclared, ...] = ()


class Place(Struct, frozen=True):
    """Where a database is: `address`, and `name` where it has one in yeldro.toml.

    `protected` asks for the name to be typed before a commit. `source` is the file that names the
    address where the person does not: "" where they do.
    """

    name: str
    address: Address
    protected: bool = False
    references: tuple[Undeclared, ...] = ()
    link: Link = PLAIN
    source: str = ""
    watch: tuple[Address, ...] = ()

    @property
    def title(self) -> str:
        """As it is shown to people: a name alone could mean anything."""
        shown = str(self.address)
        if self.name and self.address.is_file and Path(shown).is_relative_to(Path.cwd()):
            shown = str(Path(shown).relative_to(Path.cwd()))
        return f"{self.name} ({shown})" if self.name else shown


def find_config(start: Path) -> Config:
    """Read the nearest file at `start` or above it; an empty Config where there is none."""
    for folder in (start, *start.parents):
        if (folder / FILE_NAME).is_file():
            return read_config(folder / FILE_NAME)
    return Config()


def read_config(path: Path) -> Config:
    """Read one file strictly. UsageError with all faults at once, and for a file that somebody else
    could have written: it says where a person's commands and passwords go."""
    if stranger := find_stranger(path):
        raise UsageError(
            f"{path} is not used: {stranger}.",
            "Look at what it says. If it is as you want it: chown and chmod it, or remove it "
            f"({FILE_NAME} says where your commands and passwords go).",
        )
    data = _read_toml(path)
    named = data.get("databases")
    databases: dict[str, Any] = named if isinstance(named, dict) else {}
    faults = [*_faults(data, _TOP, ""), *_find_database_faults(databases)]
    if not faults and "default" in data and data["default"] not in databases:
        faults.append(f"default names {data['default']!r}, which is not under [databases]")
    references = []
    for number, entry in enumerate(data.get("references", ()) if not faults else (), 1):
        references += _read_reference(entry, f"references[{number}]", faults)
    if faults:
        raise UsageError(f"{path} has {len(faults)} fault(s): {'; '.join(faults)}.")
    return Config(
        path.parent,
        data.get("records", RECORDS),
        data.get("default"),
        {name: _read_named(name, entry, path) for name, entry in databases.items()},
        tuple(references),
    )


def _read_toml(path: Path) -> dict[str, Any]:
    try:
        return tomllib.loads(path.read_text(encoding="utf-8"))
    except (tomllib.TOMLDecodeError, UnicodeDecodeError) as error:
        raise UsageError(f"{path} cannot be read: {error}.", "Fix the file; it is TOML.") from None
    except OSError as error:
        raise UsageError(f"{path} cannot be read: {error.strerror}.") from None
    except (ValueError, RecursionError):
        # A number of thousands of digits, brackets within brackets.
        raise UsageError(
            f"{path} cannot be read: a value in it is too long or nested too deeply."
        ) from None


def _find_database_faults(databases: Mapping[str, Any]) -> Iterator[str]:
    for name, entry in databases.items():
        if not isinstance(entry, dict):
            yield f"databases.{name} must be a table with a url"
            continue
        yield from _faults(entry, _DATABASE, f"databases.{name}.")
        if looks_like_address(name):
            yield (
                f"databases.{name!r}: a name holds letters, digits, _ and -, so that no path is "
                "taken for it"
            )
        if "url" not in entry:
            yield f"databases.{name} needs a url"
        for fault in (*_find_link_faults(entry), *_find_watch_faults(entry)):
            yield f"databases.{name}.{fault}"


def _read_reference(entry: Any, where: str, faults: list[str]) -> list[Undeclared]:
    if not isinstance(entry, dict):
        faults.append(f"{where} must be a table with from, to and rule")
        return []
    found = _faults(entry, _REFERENCE, f"{where}.")
    found += [f"{where} needs {key}" for key in _REFERENCE if key not in entry]
    ends = [_read_end(str(entry.get(key, ""))) for key in ("from", "to")]
    if not found:
        if entry["rule"] not in UNDECLARED_RULES:
            found.append(f"{where}.rule must be {', '.join(UNDECLARED_RULES)}")
        found += [
            f"{where}.{key} must be TABLE.COLUMN or TABLE.(COLUMN, …)"
            for key, end in zip(("from", "to"), ends, strict=True)
            if end is None
        ]
    faults += found
    child, parent = ends
    if found or child is None or parent is None:
        return []
    return [Undeclared(*child, *parent, UNDECLARED_RULES[entry["rule"]])]


def _read_end(text: str) -> tuple[str, tuple[str, ...]] | None:
    """`table.column`, `schema.table.column` or `table.(a, b)`."""
    several = re.fullmatch(r"(?P<table>.+)\.\((?P<columns>[^()]+)\)", text)
    if several:
        return several["table"], tuple(name.strip() for name in several["columns"].split(","))
    table, dot, column = text.rpartition(".")
    return (table, (column,)) if dot and table and column else None


def _faults(data: Mapping[str, Any], known: Mapping[str, type], prefix: str) -> list[str]:
    faults = []
    for key, value in data.items():
        if key not in known:
            faults.append(
                f"{prefix}{key} is an unknown key ({nearest(key, known, 'keys').rstrip('.')})"
            )
        elif not isinstance(value, known[key]):
            faults.append(f"{prefix}{key} must be a {_KINDS[known[key]]}")
    return faults


def _find_link_faults(entry: Mapping[str, Any]) -> Iterator[str]:
    if entry.get("tls", TLS[0]) not in TLS:
        yield f"tls must be one of {', '.join(TLS)}"
    if entry.get("pooled", "session") != "session":
        yield 'pooled must be "session": behind other poolers nothing can be certain'
    if "tls_cert" in entry and "tls_key" not in entry:
        yield "tls_cert needs tls_key"
    if entry.get("tls") == "verify" and "tls_ca" not in entry:
        yield 'tls = "verify" needs tls_ca, the certificates that are trusted'


def _find_watch_faults(entry: Mapping[str, Any]) -> Iterator[str]:
    watch = entry.get("watch", [])
    if isinstance(watch, list) and not all(
        isinstance(one, str) and re.match(r"(?!sqlite)\w+://", one) for one in watch
    ):
        yield "watch must be a list of URLs of servers"


def _read_named(name: str, entry: Mapping[str, Any], path: Path) -> NamedDatabase:
    address = read_address(entry["url"])
    if address.is_file:
        address = Address(SQLITE, str(path.parent / address.path))
    files = {
        key: str(path.parent / entry[key])
        for key in ("tls_ca", "tls_cert", "tls_key")
        if key in entry
    }
    link = Link(entry.get("tls", ""), **files, pooled="pooled" in entry)
    watch = tuple(map(read_address, entry.get("watch", ())))
    return NamedDatabase(name, address, entry.get("protect", False), link, watch)


def find_place(asked: str | None, environment: str | None, config: Config) -> Place:
    """Where the database is: `--db`, else YELDRO_DB, else the default of the file. UsageError
    without any.

    A path or a URL is never looked up as a name: the file may be one that stands above the working
    folder.
    """
    text = asked or environment or config.default
    if not text:
        raise UsageError(
            "No database was named.",
            "Give --db PATH or URL, set YELDRO_DB, or name a default in yeldro.toml.",
        )
    if looks_like_address(text) or text not in config.databases:
        return Place("", read_address(text), references=config.references)
    if (asked or environment) and Path(text).is_file():
        raise UsageError(
            f"{text} is a file here and a name in {FILE_NAME}.",
            f"Say ./{text} for the file, or rename one of them.",
        )
    named = config.databases[text]
    return Place(
        text, named.address, named.protect, config.references, named.link, watch=named.watch
    )
