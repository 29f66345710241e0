"""A report as one self-contained page: no script, nothing from outside, and it prints on A4."""

from __future__ import annotations

import itertools
import re
from collections.abc import Callable, Sequence
from importlib.resources import files

from msgspec import Struct


class Grid(Struct, frozen=True):
    """A table. `right` are the columns of numbers; `caption` says what it shows."""

    caption: str
    titles: Sequence[str]
    rows: Sequence[Sequence[str]]
    right: Sequence[str] = ()


class Section(Struct, frozen=True):
    """A part of a page under its heading, in the order of these fields. `facts` are names with what
    they say, `points` sentences, `pictures` what they show with their SVG."""

    title: str
    paragraphs: Sequence[str] = ()
    facts: Sequence[tuple[str, str]] = ()
    points: Sequence[str] = ()
    code: str = ""
    grids: Sequence[Grid] = ()
    pictures: Sequence[tuple[str, str]] = ()


class Page(Struct, frozen=True):
    """The `appendix` stands after the lines for who agrees to it, and who runs it."""

    title: str
    subtitle: str
    sections: Sequence[Section]
    appendix: Sequence[Section] = ()


def render_page(page: Page) -> str:
    """The page as HTML. Every text is escaped; pictures are our own."""
    from jinja2 import Environment, StrictUndefined

    environment = Environment(
        autoescape=True, undefined=StrictUndefined, trim_blocks=True, lstrip_blocks=True
    )
    text = files("yeldro.report").joinpath("page.html").read_text(encoding="utf-8")
    return environment.from_string(text).render(page=page, own=_make_own())


def _make_own() -> Callable[[str], str]:
    """What gives each picture of a page names of its own for its parts."""
    numbers = itertools.count(1)

    def own(svg: str) -> str:
        start = f"p{next(numbers)}-"
        return re.sub(r'(\bid="|href="#|url\(#)', lambda found: f"{found[1]}{start}", svg)

    return own
