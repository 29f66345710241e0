"""A command that was typed once, read again."""

from __future__ import annotations

import shlex
from importlib import import_module

import click

from yeldro.errors import ArchiveFailed
from yeldro.options import Options
from yeldro.overview import COMMANDS


def read_line(line: str) -> tuple[str, Options]:
    """The name of the command, and its options. ArchiveFailed where the line is none of ours."""
    _, name, *words = [*shlex.split(line), "", ""]
    if name not in COMMANDS:
        raise ArchiveFailed(
            f"The record says that {line!r} was asked, and Yeldro has no such command."
        )
    words = words[:-2]
    command = import_module(f"yeldro.cli.commands.{name}").command
    try:
        given = command.make_context(name, words).params
    except click.ClickException as error:
        raise ArchiveFailed(
            f"The record says that {line!r} was asked: {error.format_message()}"
        ) from None
    kind: type[Options] = command.options_kind
    return name, kind(**{key: value for key, value in given.items() if value is not None})
