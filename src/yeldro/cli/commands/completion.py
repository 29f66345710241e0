"""yeldro completion"""

from __future__ import annotations

import click
from click.shell_completion import get_completion_class


@click.command("completion")
@click.argument("shell", type=click.Choice(["bash", "zsh", "fish"]))
def command(shell: str) -> None:
    """Print what makes SHELL complete commands, options, tables and columns.

    In bash: eval "$(yeldro completion bash)"; in zsh the same with zsh; in fish: yeldro completion
    fish | source
    """
    from yeldro.cli.command_line import group

    kind = get_completion_class(shell)
    assert kind is not None
    click.echo(kind(group, {}, "yeldro", "_YELDRO_COMPLETE").source())
