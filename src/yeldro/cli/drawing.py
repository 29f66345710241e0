"""Pictures that are written to a file."""

from __future__ import annotations

from pathlib import Path

from yeldro.core.survey.picture import Picture
from yeldro.errors import UsageError
from yeldro.report.drawing import KINDS, write_picture


def check_new(path: Path) -> None:
    """UsageError where there is such a file: it may be somebody's own."""
    if path.exists():
        raise UsageError(f"{path} is there already.", "Name another file, or remove that one.")


def draw_file(picture: Picture, title: str, name: str) -> None:
    """UsageError where the file is of another kind, or cannot be written."""
    path = Path(name)
    if path.suffix[1:].lower() not in KINDS:
        raise UsageError(f"--draw writes .{', .'.join(KINDS)}, and {name} is none of these.")
    check_new(path)
    try:
        write_picture(picture, title, path)
    except OSError as error:
        raise UsageError(f"{name} cannot be written: {error.strerror}.") from error
