"""The options of a command as Click has them. Imports little: a shell asks for them while somebody
types."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable
from typing import Any, TypeVar

import click

from yeldro.cli.complete import complete_columns, complete_table
from yeldro.examples import EXAMPLES
from yeldro.options import LARGEST, Kind, Option, Options, find_lines, options_of

T = TypeVar("T", bound=Options)
_COMPLETES = {"table": complete_table, "columns": complete_columns}
_NUMBERS: dict[Kind, click.ParamType[Any]] = {
    Kind.COUNT: click.IntRange(min=0),
    Kind.FIRST: click.IntRange(max=LARGEST),
    Kind.SECONDS: click.FloatRange(min=0),
    Kind.SHARE: click.FloatRange(0, 100),
}


class GroupedCommand(click.Command):
    """A command whose help shows its options under headings, each in one line."""

    options_kind: type

    def parse_args(self, ctx: click.Context, args: list[str]) -> list[str]:
        """An option that takes one value, and is given twice, is refused: the first value would be
        dropped without a word, and with it perhaps what protects rows."""
        _, _, given = self.make_parser(ctx).parse_args(list(args))
        for one, times in Counter(given).items():
            single = isinstance(one, click.Option) and not (one.multiple or one.is_flag)
            if times > 1 and single:
                raise click.UsageError(f"{one.opts[0]} was given {times} times, and takes one.")
        return super().parse_args(ctx, args)

    def format_options(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        for group, listed in find_lines(self.options_kind).items():
            with formatter.section(group.value):
                formatter.write_dl([(_write_usage(one), _write_help(one)) for one in listed])
        with formatter.section("Help"):
            formatter.write_dl([("-h, --help", "Show this page.")])

    def format_epilog(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        with formatter.section("Examples, on the demo"):
            for line in EXAMPLES[str(self.name)]:
                formatter.write(f"  {line}\n")


def takes(kind: type[T]) -> Callable[[Callable[[T], int | None]], Callable[..., int | None]]:
    """Gives a command the options of a frozen value, and the value to its function."""

    def decorate(work: Callable[[T], int | None]) -> Callable[..., int | None]:
        def call(**given: Any) -> int | None:
            # What was not given keeps the value that the table of options says.
            return work(kind(**{name: value for name, value in given.items() if value is not None}))

        call.__doc__ = work.__doc__
        for one in reversed(options_of(kind)):
            call = _make_option(one)(call)
        return call

    return decorate


def command_of(name: str, kind: type) -> Callable[[Callable[..., Any]], click.Command]:
    """Makes a command whose help is drawn from the table of options."""

    def decorate(work: Callable[..., Any]) -> click.Command:
        command: GroupedCommand = click.command(name, cls=GroupedCommand)(work)
        command.options_kind = kind
        return command

    return decorate


def _make_option(one: Option) -> Callable[[Callable[..., Any]], Callable[..., Any]]:
    said: dict[str, Any] = {
        "default": None if one.takes_several else one.default,
        "metavar": one.metavar or None,
    }
    if one.kind is Kind.FLAG:
        said = {"is_flag": True}
    elif one.takes_several:
        said = {"multiple": True, "metavar": one.metavar}
    elif one.kind is Kind.LIST:
        said = {"multiple": True, "metavar": one.metavar, "callback": _join}
    elif one.choices:
        said["type"] = click.Choice(one.choices)
    elif one.kind in _NUMBERS:
        said["type"] = _NUMBERS[one.kind]
    if one.alone:
        said |= {"is_flag": False, "flag_value": one.alone}
    if one.completes:
        said["shell_complete"] = _COMPLETES[one.completes]
    return click.option(one.flag, one.name, help=one.help, **said)


def _join(_: click.Context, __: click.Parameter, given: tuple[str, ...]) -> str | None:
    """Lists that are given one after the other are one list."""
    return ",".join(given) if given else None


def _write_usage(one: Option) -> str:
    metavar = f" {one.metavar}" if one.metavar else ""
    return f"{one.flag}{metavar}"


def _write_help(one: Option) -> str:
    choices = ", ".join(one.choices) if one.help.endswith(":") else ""
    usual = (
        one.default if one.kind in (Kind.CHOICE, Kind.COUNT, Kind.SECONDS, Kind.SAMPLE) else None
    )
    parts = [one.help, f"{choices}." if choices else "", "" if usual is None else f"[{usual}]"]
    return " ".join(part for part in parts if part)
