"""Files of keys: CSV with a header, read line by line."""

from __future__ import annotations

import csv
import io
import os
import stat
import sys
from collections.abc import Iterator
from pathlib import Path
from typing import BinaryIO

from yeldro.core.selection.selection import KeyFile
from yeldro.errors import UsageError

# Letters of one line: what is longer is no file of keys, and would fill the memory.
_LONGEST = 1_000_000


def open_key_file(path: str) -> KeyFile:
    """Open a file, or standard input for `-`, and read its header. UsageError for what cannot be
    read."""
    name = "standard input" if path == "-" else path
    try:
        stream: BinaryIO = sys.stdin.buffer if path == "-" else Path(path).open("rb")  # noqa: SIM115
    except OSError as error:
        raise UsageError(f"The key file {path} cannot be opened: {error.strerror}.") from None
    except ValueError:
        raise UsageError("The name of the key file holds a sign that no name can.") from None
    if path != "-" and not _has_an_end(stream):
        stream.close()
        raise UsageError(f"{path} is a device, not a file of keys.")
    lines = _read(stream, name)
    _, header = next(lines, (1, []))
    if not header:
        raise UsageError(f"{name} is empty.", "Its first line names the key's columns, as in: id")
    return KeyFile(
        name, tuple(column.strip() for column in header), _even(lines, name, len(header))
    )


def _read(stream: BinaryIO, name: str) -> Iterator[tuple[int, list[str]]]:
    with stream:
        text = io.TextIOWrapper(stream, encoding="utf-8-sig", newline="")
        reader = csv.reader(_bounded(text, name), strict=True)
        while True:
            try:
                fields = next(reader)
            except StopIteration:
                return
            except UnicodeDecodeError:
                raise UsageError(
                    f"{name}, near line {reader.line_num + 1}: this is not UTF-8 text."
                ) from None
            except csv.Error as error:
                raise UsageError(
                    f"{name}, line {reader.line_num}: this is not CSV ({error})."
                ) from None
            yield reader.line_num, fields


def _has_an_end(stream: BinaryIO) -> bool:
    mode = os.fstat(stream.fileno()).st_mode
    return stat.S_ISREG(mode) or stat.S_ISFIFO(mode)


def _bounded(text: io.TextIOWrapper, name: str) -> Iterator[str]:
    """The lines, none of which may fill the memory."""
    for number, line in enumerate(iter(lambda: text.readline(_LONGEST), ""), 1):
        if len(line) == _LONGEST:
            raise UsageError(f"{name}, line {number} is longer than {_LONGEST:,} characters.")
        yield line


def _even(
    lines: Iterator[tuple[int, list[str]]], name: str, width: int
) -> Iterator[tuple[int, list[str]]]:
    for number, fields in lines:
        if len(fields) != width:
            raise UsageError(
                f"{name}, line {number}: {len(fields)} field(s), but the header names {width}.",
                "Every line needs a value for each column of the header.",
            )
        yield number, fields
