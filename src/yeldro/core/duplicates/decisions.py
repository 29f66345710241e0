"""What a person decided row by row, and whether the data still is what it was decided on."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator, Mapping, Sequence
from hashlib import blake2b
from itertools import groupby

from msgspec import Struct

from yeldro.core.database.abilities import Row
from yeldro.core.model.plural import count
from yeldro.core.model.schema import Table
from yeldro.errors import Refused

Key = tuple[str, ...]
# Enough to notice any change, short enough for a cell of a spreadsheet.
_BYTES = 6


class Decision(Struct, frozen=True):
    """One line: the row with this key is in `group`, was as its `mark` says, and stays or goes."""

    group: str
    key: Key
    mark: str
    stays: bool


class Decisions(Struct, frozen=True, eq=False):
    """All lines of a file, by key. `source` names it."""

    source: str
    lines: Mapping[Key, Decision]


class Choices(Struct, frozen=True):
    """`chosen` says of each group that was decided which of its places stays; `others` are groups
    of which the file says nothing."""

    chosen: tuple[tuple[int, int], ...]
    others: int


def make_mark(row: Sequence[object]) -> str:
    """A fingerprint of what a row holds. It begins with a letter, or a spreadsheet would take some
    for numbers."""
    text = "\x1f".join("\x1e" if cell is None else _write(cell) for cell in row)
    return f"m{blake2b(text.encode(errors='surrogatepass'), digest_size=_BYTES).hexdigest()}"


def _write(cell: object) -> str:
    return bytes(cell).hex() if isinstance(cell, bytes | memoryview) else str(cell)


def find_key(table: Table, row: Sequence[object]) -> Key:
    """The key of a row, as a file has it."""
    return tuple(_write(row[table.column_names.index(name)]) for name in table.key)


def make_decisions(source: str, lines: Iterable[Decision]) -> Decisions:
    """Refused where a key stands twice, or a group keeps no row, or several."""
    found: dict[Key, Decision] = {}
    kept: Counter[str] = Counter()
    for line in lines:
        if line.key in found:
            raise Refused(f"{source} holds the key {'/'.join(line.key)} twice.")
        found[line.key] = line
        kept[line.group] += line.stays
    wrong = [group for group, number in kept.items() if number != 1]
    if wrong:
        first = ", ".join(wrong[:5])
        more = f" and {len(wrong) - 5:,} more" if len(wrong) > 5 else ""
        raise Refused(
            f"In {source} {count(len(wrong), 'group')} do not keep exactly one row: {first}{more}.",
            "Write yes into the column keep of one line of each group, and no into the others. To "
            "leave a group as it is, take its lines out.",
        )
    return Decisions(source, found)


def find_choices(table: Table, decisions: Decisions, ranked: Iterable[Row]) -> Choices:
    """Compare the file with the groups that there are now: rows with their group, their place and
    every column, group by group. Refused where any of it differs."""
    faults: Counter[str] = Counter()
    seen: set[Key] = set()
    labels: dict[str, int] = {}
    chosen: list[tuple[int, int]] = []
    others = 0
    width = 2 + len(table.column_names)
    for number, rows in groupby(ranked, lambda row: row[0]):
        members = [(int(row[1]), find_key(table, row[2:]), row[2:width]) for row in rows]
        known = [decisions.lines[key] for _, key, _ in members if key in decisions.lines]
        seen.update(line.key for line in known)
        if not known:
            others += 1
            continue
        # One label for two groups has one row that stays, and the other group has none.
        faults["merged"] += sum(
            labels.setdefault(label, int(number)) != int(number)
            for label in {line.group for line in known}
        )
        faults["joined"] += len(members) - len(known)
        faults["split"] += len({line.group for line in known}) - 1
        for place, key, cells in members:
            line = decisions.lines.get(key)
            if line:
                faults["changed"] += line.mark != make_mark(cells)
                if line.stays:
                    chosen.append((int(number), place))
    faults["gone"] = len(decisions.lines.keys() - seen)
    told = list(_tell(faults))
    if told:
        raise Refused(
            f"{decisions.source} does not fit the data any more: {'; '.join(told)}.",
            "yeldro duplicates … --decisions NEW.csv writes it anew.",
        )
    return Choices(tuple(chosen), others)


def _tell(faults: Mapping[str, int]) -> Iterator[str]:
    for name, words in (
        ("changed", "changed since"),
        ("gone", "not in such a group any more"),
        ("joined", "new in a group of it"),
        ("merged", "under the label of another group"),
    ):
        if rows := faults[name]:
            yield f"{count(rows, 'row')} {words}"
    if groups := faults["split"]:
        yield f"{count(groups, 'group')} grown together with another one"
