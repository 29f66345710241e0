"""How values of MariaDB travel as texts, and come back as SQL literals."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from functools import cache

from msgspec import Struct

from yeldro.core.database.row_block import Cells, RowBlock
from yeldro.core.model.schema import Column, Family

# Character sets whose texts come back from UTF-8 as they were; the texts of others are kept as
# bytes.
_LIKE_UNICODE = {
    "utf8mb4",
    "utf8mb3",
    "utf8",
    "ascii",
    "latin1",
    "ucs2",
    "utf16",
    "utf16le",
    "utf32",
}
# Types of shapes, which the server writes in a form of its own.
_SHAPES = {
    *(
        "geometry",
        "point",
        "linestring",
        "polygon",
        "multipoint",
        "multilinestring",
        "multipolygon",
    ),
    "geometrycollection",
}
# Escapes of JSON that the server reads otherwise.
_UNUSUAL = re.compile(r"\\[^bnrt]")
# Bytes of one INSERT: well below the least max_allowed_packet that servers have.
_PACKET = 1 << 20


class Way(Struct, frozen=True):
    """How the values of a column travel as texts. `name` says so in the archive."""

    name: str
    is_enum: bool = False

    def is_error(self, cell: str | None) -> bool:
        """Whether a cell stands for the error value of an ENUM, which is no member of it."""
        return self.is_enum and (cell == "0" if self.name == "number" else cell == "")


@cache
def find_way(column: Column) -> Way:
    kind = re.match(r"\w*", column.type.lower())
    word = kind[0] if kind else ""
    if word == "bit" or word.endswith(("binary", "blob")) or word in _SHAPES:
        return Way("hexadecimal")
    if word == "float":
        return Way("double")
    if word == "enum":
        return (
            Way("number", True)
            if "''" in re.findall(r"'(?:[^']|'')*'", column.type)
            else Way("text", True)
        )
    if column.collation:
        return Way("text" if column.collation.partition("_")[0] in _LIKE_UNICODE else "bytes")
    return Way(
        "plain" if column.family is not Family.OTHER or word in ("year", "time") else "own text"
    )


def is_number(column: Column) -> bool:
    """Whether a value is a number, or a day: equal ones are kept as the same text."""
    numbers = (Family.INTEGER, Family.NUMBER, Family.DATE, Family.TIMESTAMP)
    return column.family in numbers and find_way(column).name in ("plain", "double")


def write_row(ways: Sequence[Way], row: Cells) -> str:
    """A row of values as SQL literals."""
    return "(" + ",".join(map(_write_cell, ways, row)) + ")"


def write_plain(row: Cells) -> str:
    """The same for texts without anything to escape but quotes."""
    return (
        "("
        + ",".join(
            ["NULL" if cell is None else "'" + cell.replace("'", "''") + "'" for cell in row]
        )
        + ")"
    )


def write_block(block: RowBlock) -> str | None:
    """The same for a whole block at once, None where it holds what has to be looked at cell by
    cell, or would not fit a packet."""
    if len(block.text) > _PACKET:
        return None
    return block.rewrite(_turn, quote='"', escaped_quote='\\"', unusual=_UNUSUAL)


def _turn(between: str) -> str:
    """What stands between two texts of an array of rows, as it stands between values."""
    text = between.replace("[[", "(").replace("]]", ")").replace("],[", "),(")
    return text.replace("null", "NULL")


def _write_cell(way: Way, cell: str | None) -> str:
    if cell is None:
        return "NULL"
    if way.name in ("hexadecimal", "bytes"):
        return f"X'{'0' * (len(cell) % 2)}{cell}'"
    if way.name == "number" or way.is_error(cell):
        return cell or "0"
    return "'" + cell.replace("\\", "\\\\").replace("'", "''") + "'"


def within_packets(start: str, rows: Sequence[str]) -> Iterator[tuple[int, str]]:
    """Statements of about a megabyte, or of one row that is larger, each with the place of its
    first row."""
    first = size = 0
    for place, row in enumerate(rows):
        if place > first and size + len(row) > _PACKET:
            yield first, start + ",".join(rows[first:place])
            first, size = place, 0
        size += len(row)
    if rows:
        yield first, start + ",".join(rows[first:])
