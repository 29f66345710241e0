"""The command line. Commands are imported when they are called, so that help stays instant."""

from __future__ import annotations

import os
from collections.abc import Sequence
from contextlib import suppress
from importlib import import_module

import click

from yeldro import __version__
from yeldro.errors import Interrupted, OutputClosed, UsageError, YeldroError
from yeldro.overview import COMMANDS, render_overview


class _Commands(click.Group):
    def list_commands(self, ctx: click.Context) -> list[str]:
        return list(COMMANDS)

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        if cmd_name not in COMMANDS:
            return None
        command: click.Command = import_module(f"yeldro.cli.commands.{cmd_name}").command
        return command

    def resolve_command(
        self, ctx: click.Context, args: list[str]
    ) -> tuple[str | None, click.Command | None, list[str]]:
        if args and args[0] not in COMMANDS:
            from yeldro.core.model.lookup import nearest

            raise UsageError(
                f"There is no command {args[0]!r}.", nearest(args[0], COMMANDS, "commands")
            )
        return super().resolve_command(ctx, args)

    def get_help(self, ctx: click.Context) -> str:
        return render_overview().rstrip()


@click.group(
    cls=_Commands,
    context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 100},
)
@click.version_option(__version__, message="yeldro %(version)s")
def group() -> None:
    pass


def run_command_line(arguments: Sequence[str]) -> int:
    """Run one command and return its exit status. Every error ends here, as one clear sentence."""
    as_json = _wants_json(arguments)
    try:
        status = group.main(list(arguments), prog_name="yeldro", standalone_mode=False)
        return status if isinstance(status, int) else 0
    except YeldroError as error:
        return _tell(error, as_json)
    except click.exceptions.NoArgsIsHelpError as help_wanted:
        help_wanted.show()
        return 2
    except click.ClickException as error:
        usage = UsageError(
            error.format_message(), "yeldro --help and yeldro COMMAND --help tell more."
        )
        return _tell(usage, as_json)
    except (KeyboardInterrupt, click.Abort):
        return _tell(Interrupted("Interrupted.", "Nothing was changed."), as_json)
    except OutputClosed:
        return 0
    except OSError as error:
        return _tell(
            UsageError(
                f"A file cannot be used: {error.strerror}.", str(error.filename or "")[:200]
            ),
            as_json,
        )
    except RecursionError:
        return _tell(
            UsageError("Something that was given is nested too deeply; nothing was changed."),
            as_json,
        )
    except Exception as error:
        if os.environ.get("YELDRO_DEBUG"):
            raise
        return _tell(_unexpected(error), as_json)


def _unexpected(error: Exception) -> YeldroError:
    """Only the kind of error is told: its text may hold row data."""
    return YeldroError(
        f"Something unexpected went wrong ({type(error).__name__}); what was not committed was "
        "rolled back.",
        "Please report it. YELDRO_DEBUG=1 shows where it happened.",
    )


def _wants_json(arguments: Sequence[str]) -> bool:
    following = [*arguments[1:], ""]
    return "--format=json" in arguments or ("--format", "json") in zip(
        arguments, following, strict=False
    )


def _tell(error: YeldroError, as_json: bool) -> int:
    from yeldro.cli.screen import Screen

    with suppress(OutputClosed):
        Screen("json" if as_json else "text").tell_error(error)
    return error.status
