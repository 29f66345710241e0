"""The table of options, and what is drawn from it."""

from __future__ import annotations

import re
from types import ModuleType

import pytest
from tools import man, option_table

from tests.conftest import Yeldro
from yeldro.options import COMMAND_OPTIONS, Group, Kind, options_of


@pytest.mark.parametrize("command", COMMAND_OPTIONS)
def test_help_has_a_line_for_each_option_under_its_heading(yeldro: Yeldro, command: str) -> None:
    lines = yeldro(command, "--help").out.splitlines()
    headings = [line.rstrip(":") for line in lines if re.fullmatch(r"[A-Z][a-z ]+:", line)]
    assert headings == [*(group.value for group in Group if group.value in headings), "Help"]
    for one in options_of(COMMAND_OPTIONS[command]):
        (line,) = [
            line
            for line in lines
            if line.split()[:1] == [one.flag] and one.help.rstrip(":") in line
        ]
        assert len(line) < 80
    assert not [line for line in lines if re.search(r"x>=|INTEGER|FLOAT|TEXT\b", line)]


@pytest.mark.parametrize(("page", "name"), [(option_table, "options"), (man, "man")])
def test_the_pages_of_options_are_what_the_table_says(page: ModuleType, name: str) -> None:
    assert page.PAGE.read_text(encoding="utf-8") == page.make_page(), f"anew: ./dev {name}"


@pytest.mark.parametrize("command", COMMAND_OPTIONS)
def test_no_value_is_dropped_where_an_option_is_given_twice(yeldro: Yeldro, command: str) -> None:
    """Lists add up; the rest is refused before anything is looked at."""
    for one in options_of(COMMAND_OPTIONS[command]):
        if one.kind is Kind.FLAG or one.alone:
            continue
        value = one.choices[0] if one.choices else "1"
        said = yeldro(command, one.flag, value, one.flag, value).err
        adds_up = one.takes_several or one.kind is Kind.LIST
        assert ("was given 2 times" in said) != adds_up, (one.flag, said)
