"""Draws docs/layers.svg from the import rules in pyproject.toml and the packages' own docstrings.
Usage: ./dev layers"""

import ast
import tomllib
from collections.abc import Iterator, Sequence
from pathlib import Path
from xml.sax.saxutils import escape

ROOT = Path(__file__).parent.parent
PICTURE = ROOT / "docs" / "layers.svg"
WIDTH, MARGIN, GAP = 1180, 20, 8
HEIGHT_OF_ROW, HEIGHT_OF_STAGE = 56, 34
INNER = 40
COLOURS = {"core": "#e8f0e4", "engines": "#e6edf5", "store": "#e6edf5", "words": "#e6edf5"}
PLAIN = "#f4f2ec"
STYLE = """text{font-family:sans-serif;fill:#222}
.head{font-size:15px}
.name{font-size:15px;font-weight:bold}
.what{font-size:12px;fill:#444}"""
HEAD = "Each part may import what stands below it, and nothing beside or above it."


def read_layers() -> dict[str, list[list[str]]]:
    """For each package with a rule of layers, its rows from the top, each with what stands side by
    side."""
    rules = tomllib.loads((ROOT / "pyproject.toml").read_text(encoding="utf-8"))
    contracts = rules["tool"]["importlinter"]["contracts"]
    return {
        one["containers"][0]: [[part.strip() for part in row.split("|")] for row in one["layers"]]
        for one in contracts
        if one["type"] == "layers"
    }


def describe(package: str, name: str) -> str:
    """The first sentence of a package or module."""
    folder = ROOT / "src" / Path(*package.split("."))
    path = folder / f"{name}.py"
    if not path.exists():
        path = folder / name / "__init__.py"
    text = ast.get_docstring(ast.parse(path.read_text(encoding="utf-8"))) or ""
    return " ".join(text.split()).partition(". ")[0].rstrip(".").replace("`", "")


def draw(layers: dict[str, list[list[str]]]) -> str:
    """The whole picture as SVG."""
    parts: list[str] = []
    y = MARGIN + 28
    for row in layers["yeldro"]:
        inner = layers["yeldro.core"] if "core" in row else []
        height = HEIGHT_OF_ROW + len(inner) * (HEIGHT_OF_STAGE + GAP)
        parts += draw_row("yeldro", row, MARGIN, y, WIDTH - 2 * MARGIN, height)
        inner_y = y + HEIGHT_OF_ROW
        for stages in inner:
            left, width = MARGIN + INNER, WIDTH - 2 * (MARGIN + INNER)
            parts += draw_row("yeldro.core", stages, left, inner_y, width, HEIGHT_OF_STAGE)
            inner_y += HEIGHT_OF_STAGE + GAP
        y += height + GAP
    head = f'<text x="{MARGIN}" y="{MARGIN + 12}" class="head">{HEAD}</text>'
    style = f"<style>{STYLE}</style>"
    box = f'viewBox="0 0 {WIDTH} {y + MARGIN - GAP}" width="{WIDTH}"'
    ground = '<rect width="100%" height="100%" fill="white"/>'
    body = "\n".join([style, ground, head, *parts])
    return f'<svg xmlns="http://www.w3.org/2000/svg" {box}>\n{body}\n</svg>\n'


def draw_row(
    package: str, row: Sequence[str], x: int, y: int, width: int, height: int
) -> Iterator[str]:
    """Boxes side by side, each with its name and what it is."""
    each = (width - GAP * (len(row) - 1)) // len(row)
    is_stage = height == HEIGHT_OF_STAGE
    for place, name in enumerate(row):
        left = x + place * (each + GAP)
        colour = "#ffffff" if is_stage else COLOURS.get(name, PLAIN)
        what = cut(describe(package, name), each - 20 - (115 if is_stage else 0))
        yield (
            f'<rect x="{left}" y="{y}" width="{each}" height="{height}" rx="5" fill="{colour}" '
            'stroke="#888"/>'
        )
        yield f'<text x="{left + 10}" y="{y + 21}" class="name">{escape(name)}</text>'
        what_x, what_y = (left + 120, y + 21) if is_stage else (left + 10, y + 41)
        yield f'<text x="{what_x}" y="{what_y}" class="what">{escape(what)}</text>'


def cut(text: str, width: int) -> str:
    """What fits into a width of pixels, whole words only."""
    most = int(width / 5.6)
    if len(text) <= most:
        return text
    return text[:most].rpartition(" ")[0].rstrip(",;:") + " …"


if __name__ == "__main__":
    PICTURE.write_text(draw(read_layers()), encoding="utf-8")
