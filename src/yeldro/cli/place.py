"""Where the database is that a command works on."""

from __future__ import annotations

import os
from pathlib import Path
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from yeldro.store.config import Place


def find_records_folder(asked: str | None) -> Path:
    """Where run records go: `--archive`, else beside yeldro.toml, else in the working folder."""
    from yeldro.store.config import find_config

    config = find_config(Path.cwd())
    return Path(asked).absolute() if asked else (config.folder or Path.cwd()) / config.records


def beside(file: Path, name: str) -> str:
    """Where a path is that a file names: it counts from the folder of the file."""
    return str(file.parent / name)


def from_file(file: Path, name: str) -> str:
    """The other way round: how a file would name a path."""
    return Path(os.path.relpath(name, file.absolute().parent)).as_posix()


def find_named_database(file: Path, name: str) -> str | None:
    """What `--db` would have to be for the database that a file names; None where it names none."""
    from yeldro.store.config import find_config

    is_path = name and "://" not in name and name not in find_config(Path.cwd()).databases
    return beside(file, name) if is_path else name or None


def name_database(file: Path, db: str | None) -> str:
    """How a file would name the database that a command works on; "" for a URL, which may be somebody's own."""
    place = find_database(db)
    return from_file(file, place.name) if place.name and place.name == place.address else place.name


def find_database(db: str | None) -> Place:
    """The one that the option, the environment or yeldro.toml names."""
    from yeldro.store.config import find_config, find_place

    return find_place(db, os.environ.get("YELDRO_DB"), find_config(Path.cwd()))
