"""Where the database is that a command works on."""

from __future__ import annotations

import os
from pathlib import Path

from msgspec.structs import replace

from yeldro.errors import Declined, UsageError
from yeldro.store.config import Place


def find_records_folder(asked: str | None) -> Path:
    """Where run records go: `--archive`, else beside yeldro.toml, else in the working folder."""
    from yeldro.store.config import find_config

    config = find_config(Path.cwd())
    return Path(asked).absolute() if asked else (config.folder or Path.cwd()) / config.records


def list_records_folders(asked: str | None, db: str | None) -> list[Path]:
    """Where the record of a run may be: `--archive`, or else where records go from here, and beside
    the file that is the database."""
    first = find_records_folder(asked)
    if asked:
        return [first]
    try:
        address = find_database(db).address
    except UsageError:
        return [first]
    beside_it = Path(address.path).absolute().parent / first.name if address.is_file else first
    return list(dict.fromkeys([first, Path.cwd() / first.name, beside_it]))


def beside(file: Path, name: str) -> str:
    """Where a path is that a file names: it counts from the folder of the file."""
    return str(file.parent / name)


def from_file(file: Path, name: str) -> str:
    """The other way round: how a file would name a path."""
    return Path(os.path.relpath(name, file.absolute().parent)).as_posix()


def find_cleanup_database(file: Path, name: str, db: str | None, *, asks: bool) -> Place:
    """The database that a person names, or else the one that a cleanup file does: a path beside it,
    a name from yeldro.toml, or a server, which is asked about. `asks`: there is somebody to ask."""
    from yeldro.core.model.address import looks_like_address, read_address
    from yeldro.store.config import find_config

    if db or not name:
        return find_database(db)
    config = find_config(Path.cwd())
    if not looks_like_address(name) and name in config.databases:
        return find_database(name)
    address = read_address(name)
    if address.is_file:
        return find_database(beside(file, address.path))
    place = Place("", address, references=config.references, source=f"The cleanup {file}")
    return confirm_place(place, asks=asks)


def confirm_place(place: Place, *, asks: bool) -> Place:
    """Let a person allow that an address which only a file names is connected to, with what
    passwords there are.

    UsageError where nobody can be asked, Declined where they do not.
    """
    if not place.source or place.address.is_file:
        return replace(place, source="")
    if not asks:
        raise UsageError(
            f"{place.source} names the server {place.address}, and you do not.",
            f"If you mean it, and it may have your password: --db {place.address}",
        )
    question = (
        f"{place.source} names the server {place.address}. Connect to it, with your password where "
        "there is one?"
    )
    from yeldro.cli.screen import confirm

    if not confirm(question):
        raise Declined("Declined; nothing was sent anywhere.")
    return replace(place, source="")


def name_database(file: Path, db: str | None) -> str:
    """How a file would name the database that a command works on; "" for a server, which may be
    somebody's own."""
    place = find_database(db)
    if place.name or not place.address.is_file:
        return place.name
    return from_file(file, place.address.path)


def find_database(db: str | None) -> Place:
    """The one that the option, the environment or yeldro.toml names."""
    from yeldro.store.config import find_config, find_place

    return find_place(db, os.environ.get("YELDRO_DB"), find_config(Path.cwd()))
