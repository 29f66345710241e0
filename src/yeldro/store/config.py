"""`yeldro.toml`: named databases and defaults, found in the working folder or above it."""

from __future__ import annotations

import re
import tomllib
from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from yeldro.core.schema import UNDECLARED_RULES, Undeclared, nearest
from yeldro.errors import UsageError

FILE_NAME = "yeldro.toml"
RECORDS = "yeldro-runs"
_TOP = {"default": str, "records": str, "databases": dict, "references": list}
_REFERENCE = {"from": str, "to": str, "rule": str}
_DATABASE = {"url": str, "protect": bool}
_KINDS = {str: "text", bool: "true or false", dict: "table", list: "list of tables"}


@dataclass(frozen=True, slots=True)
class NamedDatabase:
    name: str
    url: str
    protect: bool = False


@dataclass(frozen=True, slots=True)
class Config:
    """What the file says. `folder` is where it lies, None where there is no file; `records` names the folder of run
    records beside it."""

    folder: Path | None = None
    records: str = RECORDS
    default: str | None = None
    databases: Mapping[str, NamedDatabase] = field(default_factory=dict)
    references: tuple[Undeclared, ...] = ()


@dataclass(frozen=True, slots=True)
class Place:
    """Where a database is: `address` is a path or URL, `name` how a person calls it.

    A URL that was given as it is has no name here: it may hold a password. `protected` asks for the name to be typed
    before a commit.
    """

    name: str
    address: str
    protected: bool = False
    references: tuple[Undeclared, ...] = ()


def find_config(start: Path) -> Config:
    """Read the nearest file at `start` or above it; an empty Config where there is none."""
    for folder in (start, *start.parents):
        if (folder / FILE_NAME).is_file():
            return read_config(folder / FILE_NAME)
    return Config()


def read_config(path: Path) -> Config:
    """Read one file strictly. UsageError with all faults at once."""
    try:
        data = tomllib.loads(path.read_text(encoding="utf-8"))
    except (tomllib.TOMLDecodeError, UnicodeDecodeError) as error:
        raise UsageError(f"{path} cannot be read: {error}.", "Mend the file; it is TOML.") from None
    faults = list(_faults(data, _TOP, ""))
    databases = data.get("databases") if isinstance(data.get("databases"), dict) else {}
    for name, entry in (databases or {}).items():
        if not isinstance(entry, dict):
            faults.append(f"databases.{name} must be a table with a url")
            continue
        faults += _faults(entry, _DATABASE, f"databases.{name}.")
        if "url" not in entry:
            faults.append(f"databases.{name} needs a url")
    if not faults and "default" in data and data["default"] not in (databases or {}):
        faults.append(f"default names {data['default']!r}, which is not under [databases]")
    if faults:
        raise UsageError(f"{path} has {len(faults)} fault(s): {'; '.join(faults)}.")
    references = []
    for number, entry in enumerate(data.get("references", ()), 1):
        references += _read_reference(entry, f"references[{number}]", faults)
    if faults:
        raise UsageError(f"{path} has {len(faults)} fault(s): {'; '.join(faults)}.")
    named = {
        name: NamedDatabase(name, entry["url"], entry.get("protect", False))
        for name, entry in (databases or {}).items()
    }
    return Config(path.parent, data.get("records", RECORDS), data.get("default"), named, tuple(references))


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
            faults.append(f"{prefix}{key} is an unknown key ({nearest(key, known, 'keys').rstrip('.')})")
        elif not isinstance(value, known[key]):
            faults.append(f"{prefix}{key} must be a {_KINDS[known[key]]}")
    return faults


def find_place(asked: str | None, environment: str | None, config: Config) -> Place:
    """Where the database is: `--db`, else YELDRO_DB, else the default of the file. UsageError without any."""
    text = asked or environment or config.default
    if not text:
        raise UsageError(
            "No database was named.",
            "Give --db PATH or URL, set YELDRO_DB, or name a default in yeldro.toml.",
        )
    if text not in config.databases:
        return Place("" if "://" in text else text, text, references=config.references)
    named = config.databases[text]
    scheme, _, rest = named.url.partition(":///")
    if scheme == "sqlite" and config.folder is not None:
        return Place(text, str(config.folder / rest), named.protect, config.references)
    return Place(text, named.url, named.protect, config.references)
