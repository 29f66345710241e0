"""yeldro demo"""

from __future__ import annotations

import sys
from pathlib import Path

import click

from yeldro.cli.command_line import run_command_line
from yeldro.demo.cleanups import CLEANUPS
from yeldro.demo.larkwater import make_larkwater
from yeldro.demo.walk import CONFIG, walk
from yeldro.errors import UsageError
from yeldro.store.config import FILE_NAME


@click.command("demo")
@click.argument(
    "folder", metavar="[DIR]", default="larkwater", type=click.Path(path_type=Path, file_okay=False)
)
@click.option(
    "--scale",
    type=click.IntRange(1, 1000),
    default=1,
    show_default=True,
    help="Multiply the volume.",
)
@click.option("--build-only", is_flag=True, help="Make the database and stop.")
@click.option("--db", metavar="URL", help="In a new database, larkwater, of this server.")
@click.option("--drop", is_flag=True, help="Drop the database that DIR has on a server.")
def command(folder: Path, scale: int, build_only: bool, db: str | None, drop: bool) -> None:
    """Make the Larkwater demo database in a new folder and walk through the whole job on it."""
    if drop:
        from yeldro.cli.demo_server import drop_from_server

        _say(f"Dropped {drop_from_server(folder)}. The folder {folder} is as it was.")
        return
    if folder.exists() and any(folder.iterdir()):
        raise UsageError(f"The folder {folder} is not empty.", "Name a new one: yeldro demo DIR.")
    place = "gauges.db"
    if db:
        from yeldro.cli.demo_server import make_on_server

        place = str(make_on_server(db, scale))
    folder.mkdir(parents=True, exist_ok=True)
    if not db:
        make_larkwater(folder / place, scale)
    url = place if db else f"sqlite:///{place}"
    (folder / FILE_NAME).write_text(CONFIG.format(url=url), encoding="utf-8")
    for name, text in CLEANUPS.items():
        (folder / name).write_text(text, encoding="utf-8")
    _say(f"Made {place if db else folder / place}: Larkwater, an invented network of river gauges.")
    if not build_only:
        walk(folder, run_command_line, _say)
        _say(f"\nThe folder {folder} is yours to try things in: cd {folder} && yeldro survey")


def _say(line: str) -> None:
    sys.stdout.write(f"{line}\n")
    sys.stdout.flush()
