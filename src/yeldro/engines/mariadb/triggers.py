"""What the bodies of MariaDB's triggers, and of the routines that they call, may write to.

Bodies are read word by word: what a statement names where tables stand may be written to by it.
That is more than what it does write to, never less.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from itertools import takewhile

from msgspec import Struct

from yeldro.core.model.schema import TableName

# The words that begin a statement which writes, and what it does to the table.
_VERBS = {
    "INSERT": ("insert",),
    "REPLACE": ("insert", "delete"),
    "UPDATE": ("update",),
    "DELETE": ("delete",),
}
# The words behind which a table may stand, or another one of these words.
_BEFORE_TABLES = {
    *(
        "INTO",
        "UPDATE",
        "FROM",
        "JOIN",
        "STRAIGHT_JOIN",
        "DELETE",
        "INSERT",
        "REPLACE",
        "USING",
        ",",
    ),
    *("IGNORE", "LOW_PRIORITY", "HIGH_PRIORITY", "DELAYED", "QUICK"),
}
# Of these, those behind which a column may not stand as well.
_OPENING = _BEFORE_TABLES - {","}
# After one of these words a new statement begins.
_ENDS = {";", "THEN", "ELSE", "DO", "BEGIN", "LOOP", "REPEAT"}


class Written(Struct, frozen=True):
    """A table that a body may write to."""

    verb: str
    table: TableName


class Routine(Struct, frozen=True):
    """A procedure or function. Its `body` is None where this account may not read it."""

    schema: str
    name: str
    body: str | None


class Bodies:
    """Reads bodies. `routines` are those that can be seen, by lower-case schema and name."""

    def __init__(self, routines: Mapping[tuple[str, str], Routine]) -> None:
        self._routines = routines

    def find_writes(self, schema: str, body: str | None) -> tuple[tuple[Written, ...], str]:
        """What a body in a schema may write to, and what of it cannot be read, "" where all can.

        None is the body of a trigger that this account may not read.
        """
        if body is None:
            return (), "its text"
        found: dict[Written, None] = {}
        waiting, seen = [(schema, body)], set[str]()
        while waiting:
            schema, body = waiting.pop()
            if "/*!" in body or "/*M!" in body.upper():
                return tuple(found), "a comment that is run"
            words = _cut(body)
            found.update(dict.fromkeys(_find_written(words, schema)))
            for place, name, is_call in _find_called(words, schema):
                routine = self._routines.get((place.lower(), name.lower()))
                if (routine is None and is_call) or (routine and routine.body is None):
                    return tuple(found), f"{name}, which it calls"
                if routine and routine.body is not None and f"{place}.{name}".lower() not in seen:
                    seen.add(f"{place}.{name}".lower())
                    waiting.append((routine.schema, routine.body))
        return tuple(found), ""

    def count_named(self, schema: str, body: str | None) -> Counter[TableName] | None:
        """The names that stand where tables do, each as often as one statement of a body names it
        at the most.

        None where the body cannot be read, or calls routines.
        """
        if body is None or "/*!" in body or "/*M!" in body.upper():
            return None
        words = _cut(body)
        called = ((place.lower(), name.lower()) for place, name, _ in _find_called(words, schema))
        if any(one in self._routines for one in called):
            return None
        most, here = Counter[TableName](), Counter[TableName]()
        for place, word in enumerate(words):
            if word.keyword in _ENDS:
                most, here = most | here, Counter()
            elif (
                place
                and words[place - 1].keyword in _OPENING
                and word.keyword not in _BEFORE_TABLES
            ):
                here[_read_name(words, place, schema)] += 1
        return most | here


# Blanks and comments; texts; names in quotes, which double ones may be too; words; signs.
_PARTS = re.compile(
    r"""\s+ | \#[^\n]* | --(?=\s)[^\n]* | /\*.*?\*/ | '(?:[^'\\]|''|\\.)*'
    | (?P<name>`(?:[^`]|``)*`|"(?:[^"]|"")*") | (?P<word>[\w$@]+) | (?P<sign>.)""",
    re.DOTALL | re.VERBOSE,
)


class _Word(Struct, frozen=True):
    text: str
    is_name: bool = False

    @property
    def keyword(self) -> str:
        """The word in upper case, "" for what stands in quotes."""
        return "" if self.is_name else self.text.upper()


def _cut(body: str) -> list[_Word]:
    words = []
    for part in _PARTS.finditer(body):
        if name := part["name"]:
            words.append(_Word(name[1:-1].replace(name[0] * 2, name[0]), is_name=True))
        elif part["word"] or part["sign"]:
            words.append(_Word(part[0]))
    return words


def _find_written(words: Sequence[_Word], schema: str) -> Iterator[Written]:
    verbs: tuple[str, ...] = ()
    for place, word in enumerate(words):
        if word.keyword in _ENDS:
            verbs = ()
        elif word.keyword in _VERBS and not _is_dotted(words, place):
            verbs += _VERBS[word.keyword]
            if word.keyword == "INSERT" and _has_update(words, place):
                verbs += _VERBS["UPDATE"]
        before = words[place - 1].keyword if place else ""
        if verbs and before in _BEFORE_TABLES and word.keyword not in _BEFORE_TABLES:
            name = _read_name(words, place, schema)
            yield from (Written(verb, name) for verb in verbs)


def _has_update(words: Sequence[_Word], place: int) -> bool:
    """Whether an INSERT goes on with ON DUPLICATE KEY UPDATE."""
    ahead = takewhile(lambda word: word.keyword != ";", words[place:])
    return any(word.keyword == "DUPLICATE" for word in ahead)


def _find_called(words: Sequence[_Word], schema: str) -> Iterator[tuple[str, str, bool]]:
    """The routines that may be called, each with its schema, and whether it is surely none of the
    server's own."""
    for place, word in enumerate(words):
        if _is_dotted(words, place) or word.keyword == "CALL":
            continue
        is_call = place > 0 and words[place - 1].keyword == "CALL"
        dotted = place + 2 < len(words) and words[place + 1].keyword == "."
        after = place + 3 if dotted else place + 1
        if is_call or (after < len(words) and words[after].keyword == "("):
            name = _read_name(words, place, schema)
            yield name.schema, name.name, is_call


def _is_dotted(words: Sequence[_Word], place: int) -> bool:
    return place > 0 and words[place - 1].keyword == "."


def _read_name(words: Sequence[_Word], place: int, schema: str) -> TableName:
    if place + 2 < len(words) and words[place + 1].keyword == ".":
        return TableName(words[place].text, words[place + 2].text)
    return TableName(schema, words[place].text)
