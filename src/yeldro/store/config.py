"""`yeldro.toml`: named databases and defaults, found in the working folder or above it."""

from __future__ import annotations

import tomllib
from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from yeldro.core.schema import nearest
from yeldro.errors import UsageError

FILE_NAME = "yeldro.toml"
_TOP = {"default": str, "databases": dict}
_DATABASE = {"url": str}


@dataclass(frozen=True, slots=True)
class NamedDatabase:
    name: str
    url: str


@dataclass(frozen=True, slots=True)
class Config:
    """What the file says. `folder` is where it lies, None where there is no file."""

    folder: Path | None = None
    default: str | None = None
    databases: Mapping[str, NamedDatabase] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class Place:
    """Where a database is: `address` is a path or URL, `name` how a person calls it."""

    name: str
    address: str


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
    named = {name: NamedDatabase(name, entry["url"]) for name, entry in (databases or {}).items()}
    return Config(path.parent, data.get("default"), named)


def _faults(data: Mapping[str, Any], known: Mapping[str, type], prefix: str) -> list[str]:
    faults = []
    for key, value in data.items():
        if key not in known:
            faults.append(f"{prefix}{key} is an unknown key ({nearest(key, known, 'keys').rstrip('.')})")
        elif not isinstance(value, known[key]):
            faults.append(f"{prefix}{key} must be a {'text' if known[key] is str else 'table'}")
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
        return Place(text, text)
    url = config.databases[text].url
    scheme, _, rest = url.partition(":///")
    if scheme == "sqlite" and config.folder is not None:
        return Place(text, str(config.folder / rest))
    return Place(text, url)
