"""What a shell offers when a word is completed: table and column names of the database that is
named."""

from __future__ import annotations

import os

import click

from yeldro.cli.place import find_database


def complete_table(context: click.Context, _: click.Parameter, begun: str) -> list[str]:
    return [name for name in _names(context) if name.startswith(begun)]


def complete_columns(context: click.Context, _: click.Parameter, begun: str) -> list[str]:
    """One column of the table, or one more behind a comma."""
    done, comma, last = begun.rpartition(",")
    table = context.params.get("table") or next(
        iter(context.args), ""
    )  # not yet taken by its argument
    return [
        f"{done}{comma}{name}" for name in _names(context).get(table, []) if name.startswith(last)
    ]


def _names(context: click.Context) -> dict[str, list[str]]:
    """Nothing where the database cannot be asked: a shell has no room for an error.

    Names that would steer the terminal are left out.
    """
    from yeldro.engines.completion_names import list_names

    try:
        place = find_database(context.params.get("db"))
        found = list_names(place.address, os.environ.get("YELDRO_DB_PASSWORD"), place.link)
        return {
            name: list(filter(_is_plain, columns))
            for name, columns in found.items()
            if _is_plain(name)
        }
    except Exception:  # noqa: BLE001 - whatever it is
        return {}


def _is_plain(name: str) -> bool:
    from yeldro.core.model.visible import one_line

    return one_line(name) == name
