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


def find_database(db: str | None) -> Place:
    """The one that the option, the environment or yeldro.toml names."""
    from yeldro.store.config import find_config, find_place

    return find_place(db, os.environ.get("YELDRO_DB"), find_config(Path.cwd()))
