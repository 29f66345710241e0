"""Files of decisions about duplicates: CSV that a person edits in a spreadsheet.

The columns `group`, `keep` and `mark` and those of the key are read; all others are there to decide
by.
"""

from __future__ import annotations

import csv
import io
from collections.abc import Iterator, Sequence
from pathlib import Path

from yeldro.core.duplicates.decisions import Decision, Decisions, make_decisions
from yeldro.core.model.schema import Table
from yeldro.errors import UsageError

# The columns before those of the table.
OURS = ("group", "keep", "happens", "dependents", "mark")
# Those of them that are read back.
READ = ("group", "keep", "mark")
YES, NO = "yes", "no"
_YES = {"yes", "y", "x", "1", "true", "keep", "stays"}
_NO = {"", "no", "n", "0", "false", "goes"}
# Lines that a person may have decided on; more are no decisions.
_MOST = 1_000_000


def read_decisions(path: Path, table: Table) -> Decisions:
    """UsageError for what is no such file, Refused for decisions that cannot be carried out."""
    if not table.key:
        raise UsageError(
            f"{table.label} has no primary key, so --decisions cannot name its rows.",
            "Use --keep.",
        )
    try:
        # As it is: a key may hold what ends a line elsewhere.
        text = path.read_bytes().decode("utf-8-sig")
    except OSError as error:
        raise UsageError(f"{path} cannot be read: {error.strerror}.") from None
    except UnicodeDecodeError:
        raise UsageError(f"{path} is not UTF-8 text.", "Save it as CSV UTF-8.") from None
    return make_decisions(str(path), _read_lines(path, table, text))


def _read_lines(path: Path, table: Table, text: str) -> Iterator[Decision]:
    # Some spreadsheets write semicolons, or tabs.
    first = text.split("\n", 1)[0]
    separator = max(",;\t", key=first.count)
    reader = csv.reader(io.StringIO(text, newline=""), delimiter=separator, strict=True)
    try:
        header = [name.strip() for name in next(reader, [])]
        places = _find_places(path, table, header)
        for fields in reader:
            if not any(fields):
                continue
            if reader.line_num > _MOST:
                raise UsageError(f"{path} holds more than {_MOST:,} lines.")
            if len(fields) != len(header):
                raise UsageError(
                    f"{path}, line {reader.line_num}: {len(fields)} fields, but the header names "
                    f"{len(header)}."
                )
            yield _read_line(path, reader.line_num, [fields[place] for place in places])
    except csv.Error as error:
        raise UsageError(f"{path}, line {reader.line_num}: this is not CSV ({error}).") from None


def _find_places(path: Path, table: Table, header: Sequence[str]) -> list[int]:
    """Where group, keep, mark and the key stand. A column of the table may be called as ours are:
    ours come first."""
    own: dict[str, int] = {}
    rest: dict[str, int] = {}
    for place, name in enumerate(map(str.lower, header)):
        (own if name in OURS and name not in own else rest).setdefault(name, place)
    wanted = [(own, name) for name in READ] + [(rest, name.lower()) for name in table.key]
    if any(name not in places for places, name in wanted):
        names = ", ".join([*READ, *table.key])
        raise UsageError(
            f"{path} is not a file of decisions about {table.label}: it has the columns "
            f"{', '.join(header) or 'none'}.",
            f"It needs {names}; yeldro duplicates … --decisions FILE.csv writes it.",
        )
    return [places[name] for places, name in wanted]


def _read_line(path: Path, number: int, fields: Sequence[str]) -> Decision:
    group, keep, mark, *key = fields
    word = keep.strip().lower()
    if word not in _YES | _NO:
        raise UsageError(
            f"{path}, line {number}: {keep!r} in the column keep is neither yes nor no."
        )
    return Decision(group.strip(), tuple(key), mark.strip(), word in _YES)
